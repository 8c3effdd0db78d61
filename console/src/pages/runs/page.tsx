import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { RUN_STATES } from "./state";
import { asked } from "../../api/client";
import { Load } from "../../pieces/load";
import { clock, day } from "../../pieces/time";
import { Glyph } from "../../states/states";

/** The rollouts that are under way, or were stopped. */
function Rollouts() {
  const rollouts = useQuery(asked.rollouts());
  const open = rollouts.data?.filter((one) => !one.state.startsWith("ended")) ?? [];
  if (open.length === 0) return null;
  return (
    <section aria-label="Rollouts" className="pb-3">
      {open.map((one) => (
        <p key={one.id} className="text-[13px] leading-6">
          <Glyph state={one.state === "stopped" ? "waiting" : "running"} />{" "}
          <Link className="nm hover:underline" to={`/rollouts/${one.id}`}>
            Rollout {one.id}: {one.product ? `${one.product} ${one.version}` : one.security ? "what closes an advisory" : "everything ready"}
          </Link>{" "}
          <span className="q">
            for {one.named || "the fleet"}, {one.members.length} sites, {one.state}. {one.text}
          </span>
        </p>
      ))}
    </section>
  );
}

/** How a run's state is shown: the kin it has among the states of sites. */
export function RunsPage() {
  const runs = useQuery(asked.runs());
  const today = useQuery(asked.today());
  const label = (id: string) => today.data?.sites.find((s) => s.id === id)?.label ?? id;
  return (
    <main id="main" className="page">
      <title>Runs · Windbreak</title>
      <div className="head">
        <h1>Runs</h1>
        <span className="q">newest first</span>
      </div>
      <Rollouts />
      <Load query={runs}>
        {(list) =>
          list.length === 0 ? (
            <p className="q py-3">
              Nothing has run yet. A run begins from an approved plan, at its booking or at once.
            </p>
          ) : (
            <table className="rows plainend">
              <thead>
                <tr>
                  <th className="w-[100px]">state</th>
                  <th className="w-[210px]">site</th>
                  <th className="w-[150px]">begun</th>
                  <th className="k w-[60px]">step</th>
                  <th>how it stands</th>
                </tr>
              </thead>
              <tbody>
                {list.map((run) => (
                  <tr key={run.id}>
                    <td className={`is-${RUN_STATES[run.state]} whitespace-nowrap`}>
                      <Glyph state={RUN_STATES[run.state]} /> {run.state}
                    </td>
                    <td>
                      <Link className="nm hover:underline" to={`/runs/${run.id}`}>
                        {label(run.site)}
                      </Link>
                    </td>
                    <td className="q">
                      {day(run.started_at)}, {clock(run.started_at)}
                    </td>
                    <td className="k">
                      {run.step}/{run.steps}
                    </td>
                    <td className="why">{run.text}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }
      </Load>
    </main>
  );
}
