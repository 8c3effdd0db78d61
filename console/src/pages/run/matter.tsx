import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, queries, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { clock } from "../../pieces/time";
import { Age } from "../../pieces/words";
import { apart, debtName, debtStands, firstWay, lossOf, noun, takes } from "./state";

type WayOut = Schemas["WayOut"];
type MatterStory = Schemas["MatterStory"];

/** How the site of a matter stands now: what a visitor meets, what lies behind, what came in. */
export function Facts({ story }: { story: MatterStory }) {
  if (story.facts.length === 0) return null;
  return (
    <dl className="facts stands">
      {story.facts.map((fact) => (
        <div key={fact.name}>
          <dt>
            {fact.name}
            {fact.since && ` since ${clock(fact.since)}`}
          </dt>
          <dd>
            <span className={fact.bad ? "text-alarm" : ""}>{fact.text}</span>{" "}
            <small>
              {fact.aside} {fact.at && clock(fact.at)}
            </small>
          </dd>
        </div>
      ))}
      <div>
        <dt>looked at</dt>
        <dd>
          <Age at={story.at} suffix=" ago" />
        </dd>
      </div>
    </dl>
  );
}

/** The ways out of a matter: what each does, how long it takes, and what is lost by it. */
export function WaysOut({ story }: { story: MatterStory }) {
  const { matter } = story;
  const { open, shut } = apart(story.ways);
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
      {matter.told && <p className="out">{matter.told}</p>}
      {matter.doing ? (
        <p className="out" role="status">
          {matter.doing.by} takes a way out since {clock(matter.doing.at)}: {matter.doing.act}.
        </p>
      ) : (
        <table className="rows plainend ways">
          <thead>
            <tr>
              <th>loses, takes</th>
              <th>what it will do</th>
              <th className="text-right">act</th>
            </tr>
          </thead>
          <tbody>
            {open.map((one) => (
              <tr key={one.act}>
                <td className="whitespace-nowrap">
                  <b className={one.loses.length > 0 ? "text-alarm" : "text-accent"}>{lossOf(one)}</b>
                  <span className="qq block">{takes(one.seconds)}</span>
                </td>
                <td>
                  {one.text}
                  <Lost items={one.lost} />
                </td>
                <td className="text-right">
                  <button
                    className={one.act === firstWay(open) ? "btn go" : one.loses.length > 0 ? "btn back" : "btn"}
                    onClick={() => setWay(one)}
                  >
                    {one.label}…
                  </button>
                </td>
              </tr>
            ))}
            {shut.length > 0 && (
              <tr className="text-ink-2">
                <td className="whitespace-nowrap">not now</td>
                <td colSpan={2}>
                  {shut.map((one) => (
                    <span key={one.act} className="mr-1.5">
                      {one.label}: {one.text}
                    </span>
                  ))}
                </td>
              </tr>
            )}
          </tbody>
        </table>
      )}
      <p className="out">
        <b>If nobody acts,</b> {story.unless}
      </p>
      <Take matter={matter.id} way={way} onLeave={() => setWay(null)} />
    </section>
  );
}

/** What a way out loses, one by one. */
function Lost({ items }: { items: WayOut["lost"] }) {
  if (items.length === 0) return null;
  return (
    <ul className="lost" aria-label="What is lost">
      {items.map((item) => (
        <li key={`${item.kind} ${item.name}`}>
          <span className="v">{clock(item.at)}</span>
          <b>
            {noun(item.kind)} {item.name}
          </b>
          <span>{item.text}</span>
          <span>{item.amount}</span>
        </li>
      ))}
    </ul>
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
