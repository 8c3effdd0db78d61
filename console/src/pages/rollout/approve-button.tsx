import { lazy, Suspense, useState } from "react";
import type { Schemas } from "../../api/client";

type New = Schemas["NewRollout"];

const Approve = lazy(() => import("./approve").then((m) => ({ default: m.Approve })));

/** A button that drafts a rollout and shows it before anything is approved. */
export function ApproveButton({ label, asked, go = false }: { label: string; asked: Partial<New>; go?: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button className={go ? "btn go" : "btn"} onClick={() => setOpen(true)}>
        {label}
      </button>
      {open && (
        <Suspense fallback={null}>
          <Approve asked={asked} onLeave={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  );
}

export function ApproveReady() {
  return <ApproveButton label="Approve what is ready…" asked={{}} go />;
}
