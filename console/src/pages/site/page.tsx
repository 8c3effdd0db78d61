import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Belt } from "../../belt/belt";
import { waiting } from "../../belt/layout";
import { SiteErrands } from "../../pieces/errands";
import { Load } from "../../pieces/load";
import { clock, day, plural } from "../../pieces/time";
import { Age } from "../../pieces/words";
import { Upload } from "../licences/shelf-upload";
import { LinkSite } from "./link";
import { Notes } from "./notes";
import { Components } from "./components";
import { Day, Members } from "./seen";
import { TwinActs } from "./twin";
import { Glyph } from "../../states/states";

type View = Schemas["SiteView"];

export function SitePage() {
  const id = useParams().id ?? "";
  const site = useQuery(asked.site(id));
  const today = useQuery(asked.today());
  const subjects = [id, ...(site.data?.twin ? [site.data.twin] : [])];
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={subjects}>
          {site.data && (
            <p className="caption">
              <b>
                {site.data.summary.label}
                {site.data.twin && !site.data.summary.twin_of && " and its twin"}
              </b>
              {plural(waiting(site.data.summary), "move")} waiting.
            </p>
          )}
        </Belt>
      )}
      <main id="main" className="page">
        <Load query={site} rows={14}>
          {(view) => (
            <>
              <title>{`${view.summary.label} · Windbreak`}</title>
              <Head view={view} />
              <Facts view={view} />
              <Members view={view} />
              <BrokenToday view={view} />
              <Components view={view} />
              <p className="planline">
                {view.plan_text}{" "}
                <Link className="t underline" to={`/sites/${id}/plan`}>
                  See the plan
                </Link>
              </p>
              <Notes view={view} />
              <SiteErrands site={id} />
              <Proposals view={view} />
              <History view={view} />
            </>
          )}
        </Load>
      </main>
    </>
  );
}

const PAGES_WRONG = new Set<View["pages_state"]>(["broken", "unreachable"]);

function Head({ view }: { view: View }) {
  const site = view.summary;
  const refresh = useMutation({
    mutationFn: () =>
      told(api.POST("/api/v1/sites/{id}/refresh", { params: { path: { id: site.id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["site", site.id] }),
  });
  return (
    <div className="head">
      <h1>{site.label}</h1>
      <span className="v text-ink-3">{site.address}</span>
      {view.retired_at && <b className="text-[13px]">Retired {day(view.retired_at)}: its history stays</b>}
      {view.link_state !== "linked" && (
        <span className={`is-${site.state} text-[13px]`}>
          <Glyph state={site.state} /> {view.link_text}
        </span>
      )}
      {view.link_state !== "down" && PAGES_WRONG.has(view.pages_state) && (
        <span className="is-failed text-[13px]">
          <Glyph state="failed" /> {view.pages_text}
        </span>
      )}
      {site.running && (
        <Link className="is-running text-[13px] underline" to={`/runs/${site.running}`}>
          <Glyph state="running" /> {site.text}
        </Link>
      )}
      {refresh.isError && (
        <span className="text-[13px] text-alarm" role="alert">
          {refresh.error.message}
        </span>
      )}
      <span className="sp" />
      <div className="acts">
        {(view.link_state === "unlinked" || view.link_state === "refused") && (
          <LinkSite id={site.id} label={site.label} />
        )}
        {view.twin && <TwinActs view={view} />}
        <Upload site={site.id} />
        <button className="btn" disabled={refresh.isPending} onClick={() => refresh.mutate()}>
          {refresh.isPending ? "Asking…" : "Refresh"}
        </button>
        <Link className="btn go" to={`/sites/${site.id}/plan`}>
          See the plan
        </Link>
      </div>
    </div>
  );
}

const often = (minutes: number) => (minutes ? `each ${String(minutes)} min` : "never by itself");

function Facts({ view }: { view: View }) {
  const site = view.summary;
  const wrong = PAGES_WRONG.has(view.pages_state);
  // What it is called, what it is, and when that was seen.
  const checks = (view.checks ?? []).filter((check) => check.state !== "good");
  const facts: [string, React.ReactNode, (string | null)?, "wide"?][] = [
    ["client", site.client || "none"],
    ["host", site.host_name],
    ["environment", site.environment],
    [
      site.twin_of ? "twin of" : "twin",
      view.twin ? (
        <Link className="t underline" to={`/sites/${view.twin}`}>
          {view.twin}
        </Link>
      ) : (
        "none"
      ),
    ],
    ["window", view.window],
    [
      "link",
      <>
        <Glyph state={view.link_state === "linked" ? "clear" : "unknown"} /> {view.link_state}
        {view.agent && (
          <>
            , agent <span className="v">{view.agent}</span>
          </>
        )}
        {view.agent_every != null && <span className="q">, {often(view.agent_every)}</span>}
      </>,
      site.facts_at,
    ],
    [
      "pages",
      <span key="pages" title={view.pages_text} className={wrong ? "text-alarm" : ""}>
        <Glyph state={wrong ? "failed" : view.pages_state === "fine" ? "clear" : "unknown"} /> {view.pages_state}
        {view.pages_every != null && <span className="q">, {often(view.pages_every)}</span>}
        {view.day_text && (
          <span className="block">
            <Day spans={view.day ?? []} />
            <span className="qq">{view.day_text}</span>
          </span>
        )}
      </span>,
      view.pages_at,
      view.day_text ? "wide" : undefined,
    ],
    [
      "its own health checks",
      <span key="checks" className={checks.some((check) => check.state === "critical") ? "text-alarm" : ""}>
        {view.checks_text || "not known"}
        {checks.map((check) => (
          <span key={check.id} className="q block">
            {(check.text || check.name).replace(/\.$/, "")}
            {check.since && `, since ${day(check.since)}`}
          </span>
        ))}
      </span>,
      site.facts_at,
      checks.length ? "wide" : undefined,
    ],
    ["own updater", view.updater, site.facts_at],
    [
      site.twin_of ? "refreshed" : "backup",
      <span key="backup" className={view.backup_well === false ? "text-alarm" : ""}>
        {view.backup}
      </span>,
    ],
    [
      "changed by hand",
      view.by_hand.length
        ? view.by_hand.map((one) => (
            <span key={one.product} className="block">
              {one.name}: {one.text}
            </span>
          ))
        : view.files_at
          ? "nothing"
          : "not looked",
      view.files_at,
    ],
  ];
  return (
    <dl className="facts site">
      {facts.map(([name, value, at, wide]) => (
        <div key={name} className={wide && "w2"}>
          <dt>
            {name}
            {at && (
              <i title={`seen ${clock(at)}`}>
                <Age at={at} />
              </i>
            )}
          </dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** What stands here and does not go together, as it is today. */
function BrokenToday({ view }: { view: View }) {
  if (view.broken.length === 0) return null;
  return (
    <section aria-label="Broken today" className="pt-3">
      <h2 className="is-failed">Broken today</h2>
      <ul className="out">
        {view.broken.map((one) => (
          <li key={one.a + one.b}>
            <span className="text-ink">{one.text}</span>{" "}
            {one.mended ? "The plan mends it." : "Nothing that may be taken now mends it."}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What the site could do without: apart from the plan, never done by itself. */
function Proposals({ view }: { view: View }) {
  const go = useNavigate();
  const site = view.summary.id;
  const remove = useMutation({
    mutationFn: (product: string) =>
      told(api.POST("/api/v1/sites/{id}/removals", { params: { path: { id: site } }, body: { products: [product] } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["plans", site] });
      await go(`/sites/${site}/plan`);
    },
  });
  if (!view.proposals || view.proposals.length === 0) return null;
  return (
    <section aria-label="Proposed apart" className="pb-3">
      <h2 className="border-b border-line-strong pb-1">Proposed apart from the plan</h2>
      <ul className="out">
        {view.proposals.map((one) => (
          <li key={one.product + one.why}>
            {one.text}{" "}
            {one.now && (
              <button className="t underline" disabled={remove.isPending} onClick={() => remove.mutate(one.product)}>
                Plan its removal
              </button>
            )}
          </li>
        ))}
      </ul>
      {remove.isError && (
        <p className="text-[13px] text-alarm" role="alert">
          {remove.error.message}
        </p>
      )}
    </section>
  );
}

function History({ view }: { view: View }) {
  return (
    <section aria-label="History">
      <h2 className="border-b border-line-strong pt-2 pb-1">History</h2>
      <ol className="hist">
        {view.history.map((entry) => (
          <li key={entry.id}>
            <span className="v text-ink-3">
              {day(entry.at)}, {clock(entry.at)}
            </span>
            <span>{entry.who}</span>
            <span>
              <b className="font-semibold">{entry.what}</b>
              {entry.why && <span className="q"> “{entry.why}”</span>}
              {entry.result && <span className="q"> {entry.result}</span>}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
