import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Finding, queries, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { day, plural } from "../../pieces/time";
import { Sentence } from "../../pieces/words";
import { now } from "../../pieces/now";

const path = (id: string) => ({ params: { path: { id } } });
const again = () => void queries.invalidateQueries({ queryKey: ["today"] });

/** Tomorrow week, as a date field writes it. */
const aWeekOn = () => new Date(now() + 7 * 86_400_000).toISOString().slice(0, 10);

/** "Put aside…": to a day, with a reason. Dismissed is not solved. */
export function Snooze({ finding }: { finding: Finding }) {
  const [open, setOpen] = useState(false);
  const [until, setUntil] = useState(aWeekOn);
  const [why, setWhy] = useState("");
  const snooze = useMutation({
    mutationFn: () =>
      told(api.PUT("/api/v1/findings/{id}/snooze", { ...path(finding.id), body: { until, why } })),
    onSuccess: () => {
      setOpen(false);
      again();
    },
  });
  return (
    <>
      {" "}
      <button className="aside" onClick={() => setOpen(true)}>
        Put aside…
      </button>
      <Ask
        open={open}
        title="Put this finding aside"
        go="Put it aside"
        busy={snooze.isPending}
        ready={why.trim() !== "" && until !== ""}
        failed={snooze.isError ? snooze.error.message : null}
        onGo={() => snooze.mutate()}
        onLeave={() => setOpen(false)}
      >
        <p className="pb-2">
          <Sentence text={finding.headline} />
        </p>
        <Field label="Until" type="date" value={until} onChange={setUntil} />
        <Field label="Why" value={why} onChange={setWhy} />
        <p className="hint">
          It stays listed as put aside, comes back that day, and closes by itself when its cause is gone. Nothing
          is solved by it.
        </p>
      </Ask>
    </>
  );
}

export function Asleep({ findings }: { findings: Finding[] }) {
  const wake = useMutation({
    mutationFn: (id: string) => told(api.DELETE("/api/v1/findings/{id}/snooze", path(id))),
    onSettled: again,
  });
  if (findings.length === 0) return null;
  return (
    <details className="pt-3 text-[13px]">
      <summary className="q">{plural(findings.length, "finding")} put aside</summary>
      <ul>
        {findings.map((one) => (
          <li key={one.id} className="flex items-baseline gap-3 border-b border-line py-1">
            <span className="min-w-0 flex-1">
              <Sentence text={one.headline} />
              {one.snoozed && (
                <span className="q block">
                  to {day(one.snoozed.until)}, by {one.snoozed.by}: “{one.snoozed.why}”
                </span>
              )}
            </span>
            <button className="t underline" disabled={wake.isPending} onClick={() => wake.mutate(one.id)}>
              Bring it back
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}
