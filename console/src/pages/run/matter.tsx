import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { Load } from "../../pieces/load";
import { clock } from "../../pieces/time";
import { debtName, debtStands, firstWay, lossOf } from "./state";

type WayOut = Schemas["WayOut"];
type MatterStory = Schemas["MatterStory"];

/** What waits for a person after a run that ended badly: what is owed, and the ways out. */
export function Matter({ run }: { run: number }) {
  const matter = useQuery(asked.matter(run));
  return <Load query={matter}>{(story) => <Open story={story} />}</Load>;
}

function Open({ story }: { story: MatterStory }) {
  const { matter, ways } = story;
  const [way, setWay] = useState<WayOut | null>(null);
  if (matter.closed_at) {
    return (
      <p className="out">
        Closed by {matter.closed_by} at {clock(matter.closed_at)}: {matter.how}. {matter.told}
      </p>
    );
  }
  return (
    <section aria-label="Ways out" className="pb-4">
      <h2 className="border-b border-line-strong pb-1">
        Ways out <span className="qq">the matter stays open until one of these closes it</span>
      </h2>
      <dl className="facts">
        <div>
          <dt>a visitor sees now</dt>
          <dd className={story.visitor === "200" ? "" : "text-alarm"}>{story.visitor}</dd>
        </div>
        <div>
          <dt>came in since the snapshot</dt>
          <dd>{story.came}</dd>
        </div>
        <div>
          <dt>since</dt>
          <dd>{clock(matter.opened_at)}</dd>
        </div>
      </dl>
      {matter.told && <p className="out">{matter.told}</p>}
      {matter.doing ? (
        <p className="out" role="status">
          {matter.doing.by} takes a way out since {clock(matter.doing.at)}: {matter.doing.act}.
        </p>
      ) : (
        <table className="rows plainend">
          <thead>
            <tr>
              <th>loses</th>
              <th>what it will do</th>
              <th className="text-right">act</th>
            </tr>
          </thead>
          <tbody>
            {ways.map((one) => (
              <tr key={one.act} className={one.possible ? "" : "text-ink-2"}>
                <td className={one.loses.length > 0 ? "whitespace-nowrap text-alarm" : "whitespace-nowrap"}>
                  <b>{lossOf(one)}</b>
                </td>
                <td>{one.possible ? one.text : `${one.label}: ${one.text}`}</td>
                <td className="text-right">
                  {one.possible && (
                    <button
                      className={one.act === firstWay(ways) ? "btn go" : "btn"}
                      onClick={() => setWay(one)}
                    >
                      {one.label}…
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="qq pt-1">
        If nobody acts, nothing more is done to the site but to set back what is owed.
      </p>
      <Take matter={matter.id} way={way} onLeave={() => setWay(null)} />
    </section>
  );
}

function Take({
  matter,
  way,
  onLeave,
}: {
  matter: number;
  way: WayOut | null;
  onLeave: () => void;
}) {
  const [why, setWhy] = useState("");
  const take = useMutation({
    mutationFn: (act: WayOut["act"]) =>
      told(
        api.POST("/api/v1/matters/{id}/ways", {
          params: { path: { id: matter } },
          body: { act, why },
        }),
      ),
    onSuccess: onLeave,
    onSettled: () => queries.invalidateQueries({ queryKey: ["run", matter] }),
  });
  return (
    <Ask
      open={way !== null}
      title={way?.label ?? ""}
      go={way?.label ?? ""}
      busy={take.isPending}
      ready={why.trim() !== ""}
      failed={take.error?.message ?? null}
      onGo={() => way && take.mutate(way.act)}
      onLeave={onLeave}
    >
      <p className="pb-2">{way?.text}</p>
      {way && way.loses.length > 0 && (
        <p className="pb-2 text-alarm">Lost by it: {way.loses.join(", ")}.</p>
      )}
      <Field label="Why, for the ledger" value={why} onChange={setWhy} />
    </Ask>
  );
}

/** What a run switched and that is not yet read back as it was. */
export function Owed({ debts }: { debts: readonly Schemas["Debt"][] }) {
  if (debts.length === 0) return null;
  return (
    <section aria-label="Owed to the site">
      <h2 className="border-b border-line-strong pt-3 pb-1">
        Owed to the site: {debts.length} <span className="qq">paid when read back, not before</span>
      </h2>
      <table className="rows plainend">
        <tbody>
          {debts.map((debt) => (
            <tr key={debt.id}>
              <td>
                <b>{debtName(debt)}</b>
              </td>
              <td className={debt.kind === "page" ? "text-alarm" : "text-block"}>
                {debtStands(debt)} {clock(debt.since)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
