import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";

/** Something over the page: what it does and what follows stand above its buttons. */
export function Ask({
  open,
  title,
  go,
  busy,
  ready = true,
  failed,
  onGo,
  onLeave,
  children,
}: {
  open: boolean;
  title: string;
  go: string;
  busy: boolean;
  ready?: boolean;
  failed: string | null;
  onGo: () => void;
  onLeave: () => void;
  children: React.ReactNode;
}) {
  return (
    <Dialog open={open} onClose={onLeave} className="relative z-30">
      <div className="veil" aria-hidden="true" />
      <div className="over">
        <DialogPanel className="dlg">
          <DialogTitle as="h2">{title}</DialogTitle>
          <div className="text-[14px] leading-5">{children}</div>
          {failed && (
            <p className="err" role="alert">
              <span aria-hidden="true">✕</span>
              {failed}
            </p>
          )}
          <div className="feet">
            <button className="btn" onClick={onLeave}>
              Leave it
            </button>
            <button className="btn go" disabled={busy || !ready} onClick={onGo}>
              {go}
            </button>
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
