import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, asked, queries, type Schemas, told } from "../api/client";
import { Ask } from "./dialog";
import { Field } from "./field";
import { day } from "./time";

type Errand = Schemas["Errand"];

/** What people are to do for a site; each with the act that closes it. */
export function SiteErrands({ site }: { site: string }) {
  const errands = useQuery(asked.errands(site));
  return <Errands errands={errands.data ?? []} />;
}

export function Errands({ errands }: { errands: readonly Errand[] }) {
  const [closing, setClosing] = useState<Errand | null>(null);
  if (errands.length === 0) return null;
  return (
    <section aria-label="Errands">
      <h2 className="border-b border-line-strong pt-3 pb-1">
        Errands <span className="qq">what a person is to do</span>
      </h2>
      <table className="rows plainend">
        <tbody>
          {errands.map((errand) => (
            <tr key={errand.id}>
              <td>
                <b>{errand.text}</b> <span className="qq">{when(errand)}</span>
              </td>
              <td className="text-right">
                {!errand.closed_at && (
                  <button className={errand.blocking ? "btn go" : "btn"} onClick={() => setClosing(errand)}>
                    It is done…
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Done errand={closing} onLeave={() => setClosing(null)} />
    </section>
  );
}

/** Until when, or by whom it was done. */
export function when(errand: Errand): string {
  if (errand.closed_at) return `done by ${errand.closed_by}${errand.how ? `: ${errand.how}` : ""}`;
  if (errand.blocking) return `run ${errand.run} waits for it`;
  return errand.due ? `due ${day(errand.due)}` : "no day";
}

function Done({ errand, onLeave }: { errand: Errand | null; onLeave: () => void }) {
  const [how, setHow] = useState("");
  const close = useMutation({
    mutationFn: async (errand: Errand) => {
      await told(
        api.POST("/api/v1/errands/{id}/done", {
          params: { path: { id: errand.id } },
          body: { how },
        }),
      );
      if (errand.blocking && errand.run)
        await told(api.POST("/api/v1/runs/{id}/go-on", { params: { path: { id: errand.run } } }));
    },
    onSuccess: onLeave,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Ask
      open={errand !== null}
      title="It is done"
      go={errand?.blocking ? "It is done: go on" : "It is done"}
      busy={close.isPending}
      failed={close.error?.message ?? null}
      onGo={() => errand && close.mutate(errand)}
      onLeave={onLeave}
    >
      <p className="pb-2">{errand?.text}.</p>
      {errand?.blocking && (
        <p className="pb-2">
          Run {errand.run} then goes on, with a fresh look at the site before it changes anything.
        </p>
      )}
      <Field label="How, for the ledger" value={how} onChange={setHow} />
    </Ask>
  );
}
