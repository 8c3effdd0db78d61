import { lazy, Suspense, useEffect, useState } from "react";

const KeysBox = lazy(() => import("./keys-box").then((m) => ({ default: m.KeysBox })));

/** What the keys do, on "?". */
export function Keys() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const hear = (event: KeyboardEvent) => {
      const writing = (event.target as HTMLElement).closest("input, textarea");
      if (event.key === "?" && !writing) setOpen(true);
    };
    window.addEventListener("keydown", hear);
    return () => window.removeEventListener("keydown", hear);
  }, []);
  if (!open) return null;
  return (
    <Suspense>
      <KeysBox onClose={() => setOpen(false)} />
    </Suspense>
  );
}
