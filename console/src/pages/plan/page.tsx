import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, asked, Problem, queries, type Schemas, type SitePlan, told } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Ask } from "../../pieces/dialog";
import { Load } from "../../pieces/load";
import { clock, day, plural } from "../../pieces/time";
import { Rail } from "../../rail/rail";
import { Charts } from "../../chart/chart";
import { itemsOf } from "./items";
import { Paper } from "./paper";
import { headline, takesAway } from "./state";
import { Suppose } from "./suppose";

export function PlanPage() {
  const id = useParams().id ?? "";
  const [search] = useSearchParams();
  const today = useQuery(asked.today());
  const site = useQuery(asked.site(id));
  const plans = useQuery(asked.plans(id));
  const products = useQuery(asked.products());
  const names = new Map(products.data?.map((row) => [row.product.id, row.product.name]));
  const label = site.data?.summary.label ?? id;
  const draft = useMutation({
    mutationFn: () => told(api.POST("/api/v1/sites/{id}/plans", { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["plans", id] }),
  });
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={[id, ...(site.data?.twin ? [site.data.twin] : [])]}>
          <p className="caption">
            <b>{label}</b>
            {site.data?.plan_text}
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>{`Plan for ${label} · Windbreak`}</title>
        <Load query={plans} rows={10}>
          {(list) => {
            const plan = list[0];
            return (
              <>
                <div className="head ruled">
                  <h1>
                    Plan for <Link to={`/sites/${id}`}>{label}</Link>
                  </h1>
                  {plan && <span className="q">{headline(plan)}</span>}
                  <span className="sp" />
                  <button
                    className={plan ? "btn" : "btn go"}
                    disabled={draft.isPending}
                    onClick={() => draft.mutate()}
                  >
                    {plan ? "Reckon again" : "Make a plan"}
                  </button>
                </div>
                {draft.isError && (
                  <p className="state-note bad" role="alert">
                    {draft.error.message}
                  </p>
                )}
                {plan || search.has("if") ? (
                  <>
                    <Suppose site={id} names={names} />
                    {plan && !search.has("if") && (
                      <Planned plan={plan} label={label} names={names} />
                    )}
                  </>
                ) : (
                  <p className="q py-3">
                    No plan has been made. A plan changes nothing: it says what would be done, in which
                    order, and why.
                  </p>
                )}
              </>
            );
          }}
        </Load>
      </main>
    </>
  );
}

function Planned({
  plan,
  label,
  names,
}: {
  plan: SitePlan;
  label: string;
  names: Map<string, string>;
}) {
  const left = plan.answer.verdicts.filter((v) => v.blocked);
  const charts = useQuery(asked.charts(plan.id));
  const sheet = useQuery(asked.sheet(plan.id));
  const me = useQuery(asked.me());
  return (
    <>
      {takesAway(plan) ? (
        <p className="q pt-2">It takes away, and moves nothing. What leaves is kept aside, and the snapshot has it.</p>
      ) : (
        plan.scope && <p className="q pt-2">It moves nothing but {plan.scope.map((id) => names.get(id) ?? id).join(", ")}.</p>
      )}
      {sheet.data && plan.plan.steps.length > 0 && (
        <p className="q pt-2">
          About {sheet.data.minutes} min, {sheet.data.runs ? `drawn from ${plural(sheet.data.runs, "run")}` : "as is usual: nothing has run yet"}; {sheet.data.back_minutes} min to go back.{" "}
          <button className="btn plain" onClick={() => window.print()}>
            Print it as a checklist
          </button>
        </p>
      )}
      {sheet.data && <Paper sheet={sheet.data} who={me.data?.name ?? ""} />}
      <div className="two">
        <section aria-label="Steps">
          {plan.plan.steps.length ? (
            <>
              <Rail items={itemsOf(plan.plan.steps, names, plan.brings)} label="Steps of the plan" />
              {plan.plan.usual && <p className="q pt-1">{plan.plan.usual}</p>}
            </>
          ) : (
            <p className="q">Nothing moves now.</p>
          )}
        </section>
        <div>
        <Charts charts={charts.data ?? []} />
        {sheet.data && sheet.data.by_hand.length > 0 && (
          <section aria-label="Changed by hand" className="pb-3">
            <h2 className="border-b border-line-strong pb-1">Changed by hand</h2>
            <ul className="out">
              {sheet.data.by_hand.map((one) => (
                <li key={one}>{one}.</li>
              ))}
              <li className="q">
                Carried over into the new version, or set aside with the old folder: whoever approves it says which.
              </li>
            </ul>
          </section>
        )}
        {!takesAway(plan) && (
          <section aria-label="Not in this plan">
            <h2 className="border-b border-line-strong pb-1">Not in this plan</h2>
            {left.length === 0 && plan.plan.stuck.length === 0 && (
              <p className="out">Nothing is left out: everything goes to its newest.</p>
            )}
            <ul className="out">
              {plan.plan.stuck.map((one) => (
                <li key={one.product}>{one.text}</li>
              ))}
              {left.map((one) => (
                <li key={one.product}>
                  {one.blocked?.text}
                  {one.blocked?.unblock?.map((acts) => (
                    <span key={acts.text} className="block text-ink">
                      {acts.brings && `To ${acts.brings}: `}
                      {acts.text}.
                    </span>
                  ))}
                </li>
              ))}
            </ul>
          </section>
        )}
        </div>
      </div>
      {plan.plan.steps.length > 0 && <Bar plan={plan} label={label} sheet={sheet.data} />}
    </>
  );
}

const CHANGED = [
  ["carry-over", "Carry it over into the new version"],
  ["set-aside", "Set it aside with the old folder"],
] as const;

/** What approving means, and the next act. */
function Bar({ plan, label, sheet }: { plan: SitePlan; label: string; sheet: Schemas["PlanSheet"] | undefined }) {
  const byHand = sheet?.by_hand ?? [];
  const booked = sheet?.starts_at;
  const [changed, setChanged] = useState<"carry-over" | "set-aside" | null>(null);
  const [asking, setAsking] = useState<"approve" | "run" | null>(null);
  const [although, setAlthough] = useState(false);
  const go = useNavigate();
  const path = { params: { path: { id: plan.id } } };
  const again = () => {
    setAsking(null);
    void queries.invalidateQueries({ queryKey: ["plans"] });
  };
  const approve = useMutation({
    mutationFn: () => told(api.POST("/api/v1/plans/{id}/approval", { ...path, body: { why: "", restore_anyway: false, fetch: true, patches_until: null, changed_files: changed } })),
    onSuccess: again,
  });
  const book = useMutation({
    mutationFn: () => told(api.POST("/api/v1/plans/{id}/bookings", { ...path, body: { outside_window: false } })),
    onSuccess: again,
  });
  const run = useMutation({
    mutationFn: () => told(api.POST("/api/v1/plans/{id}/runs", { ...path, body: { outside_window: true, although_it_failed: although } })),
    onSuccess: (begun) => go(`/runs/${begun.id}`),
  });
  const steps = plural(plan.plan.steps.length, "step");
  if (plan.state !== "draft" && plan.state !== "approved")
    return (
      <div className="actbar">
        <p>This plan is {plan.state}. Reckon again to see what may move now.</p>
      </div>
    );
  return (
    <div className="actbar">
      {plan.state === "draft" ? (
        <>
          <p>
            <b>If you approve:</b> {steps} on {label}, in the order above, and nothing beside them. A step
            that fails is put back, and you are told.
          </p>
          <button className="btn go big" onClick={() => setAsking("approve")}>
            Approve {steps}…
          </button>
        </>
      ) : (
        <>
          <p>
            <b>Approved</b> by {plan.approval?.by}.{" "}
            {booked
              ? `Booked for ${day(booked)}, ${clock(booked)}: it runs then by itself.`
              : "When it is booked, it runs where the timetable has a place for it."}
            {book.isError && <span className="text-alarm"> {book.error.message}</span>}
          </p>
          <button className="btn big" onClick={() => setAsking("run")}>
            Run it now…
          </button>
          {booked ? (
            <Link className="btn big" to="/calendar">
              See the calendar
            </Link>
          ) : (
            <button className="btn go big" disabled={book.isPending || !sheet} onClick={() => book.mutate()}>
              Book it
            </button>
          )}
        </>
      )}
      <Ask
        open={asking === "approve"}
        title={`Approve plan ${plan.id} for ${label}`}
        go={`Approve ${steps}`}
        busy={approve.isPending || (byHand.length > 0 && changed === null)}
        failed={approve.isError ? approve.error.message : null}
        onGo={() => approve.mutate()}
        onLeave={() => setAsking(null)}
      >
        {byHand.length > 0 && (
          <fieldset className="pb-2">
            <legend>{byHand.join("; ")}. What becomes of that?</legend>
            {CHANGED.map(([value, words]) => (
              <label key={value} className="block">
                <input
                  type="radio"
                  name="changed"
                  checked={changed === value}
                  onChange={() => setChanged(value)}
                />{" "}
                {words}
              </label>
            ))}
          </fieldset>
        )}
        <p>
          {plural(Object.keys(plan.targets).length, "product")} move, in {steps}. Nothing runs until it is
          booked or started.
        </p>
        <p>
          A step that fails is put back. If the site is still bad then, the snapshot is restored by itself
          only when nothing was written to the site since; else its maintenance page stays up and you are
          asked.
        </p>
      </Ask>
      <Ask
        open={asking === "run"}
        title={`Run plan ${plan.id} on ${label} now`}
        go={`Change ${label} now`}
        busy={run.isPending}
        failed={run.isError ? run.error.message : null}
        onGo={() => run.mutate()}
        onLeave={() => setAsking(null)}
      >
        <p>
          The site is changed at once, outside its window: {steps}, each looked at. Combined steps are done
          behind a maintenance page.
        </p>
        {run.error instanceof Problem && run.error.code === "failed-elsewhere" && (
          <label className="block pt-2">
            <input type="checkbox" checked={although} onChange={() => setAlthough(!although)} /> Run it here although
            it failed there
          </label>
        )}
      </Ask>
    </div>
  );
}
