import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";

const KEYS = [
  ["/ or Ctrl K", "find a site, product or act"],
  ["← →", "walk the belt, when it has the focus"],
  ["Enter", "open what is chosen"],
  ["Home, End", "the belt's first and last site"],
  ["?", "these keys"],
] as const;

/** What the keys do. */
export function KeysBox({ onClose }: { onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} className="relative z-30">
      <div className="veil" aria-hidden="true" />
      <div className="over">
        <DialogPanel className="dlg">
          <DialogTitle as="h2">Keys</DialogTitle>
          <dl className="grid grid-cols-[120px_1fr] gap-y-1 text-[13px]">
            {KEYS.map(([key, does]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd>{key}</kbd>
                </dt>
                <dd>{does}</dd>
              </div>
            ))}
          </dl>
          <div className="feet">
            <button className="btn" onClick={onClose}>
              Close
            </button>
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
