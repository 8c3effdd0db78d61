import { useMutation, useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useParams } from "react-router";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Belt } from "../../belt/belt";
import { waiting } from "../../belt/layout";
import { SiteErrands } from "../../pieces/errands";
import { Load } from "../../pieces/load";
import { clock, day, plural } from "../../pieces/time";
import { Age, Arrow } from "../../pieces/words";
import { Upload } from "../licences/shelf-upload";
import { ActLink } from "../../pieces/act-link";
import { LinkSite } from "./link";
import { Notes } from "./notes";
import { byVersion, partsBesides, partsUnder, urgent } from "./state";
import { TwinActs } from "./twin";
import { Glyph, StateWord } from "../../states/states";

type View = Schemas["SiteView"];
type Root = Schemas["RootView"];

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
          <LinkSite id={site.id} label={site.label} address={site.address} />
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
  const facts: [string, React.ReactNode, (string | null)?][] = [
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
      </span>,
      view.pages_at,
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
      {facts.map(([name, value, at]) => (
        <div key={name}>
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

function Components({ view }: { view: View }) {
  if (view.components.length === 0)
    return (
      <p className="q py-3">
        What is installed here is not known. Link the site at a terminal, then refresh it:{" "}
        <span className="v">windbreak site link {view.summary.id}</span>
      </p>
    );
  return (
    <table className="rows plainend">
      <thead>
        <tr>
          <th className="w-[86px]">state</th>
          <th className="w-[190px]">component</th>
          <th className="w-[184px]">origin on this site</th>
          <th className="w-[150px]">installed, target</th>
          <th>why not newer, or what it takes</th>
          <th className="num">
            <span className="sr-only">more</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {urgent(view.roots, view.components).map((one) => (
          <Component key={one.product} one={one} site={view.summary.id} />
        ))}
        {view.roots.map((root) => (
          <Fragment key={root.id}>
            <RootRow root={root} />
            {partsUnder(root, view.components).map((one) => (
              <Component key={one.product} one={one} site={view.summary.id} under />
            ))}
          </Fragment>
        ))}
        {partsBesides(view.roots, view.components).map((one, n) => (
          <Component key={one.product} one={one} site={view.summary.id} first={n === 0 && view.roots.length > 0} />
        ))}
      </tbody>
    </table>
  );
}

/** What keeps several components back, told once, with what would change it. */
function RootRow({ root }: { root: Root }) {
  return (
    <tr className="root">
      <td>
        <span className="is-blocked whitespace-nowrap">
          <Glyph state="blocked" /> blocks {root.keeps.length}
        </span>
      </td>
      <td colSpan={4}>
        <b>{root.text}</b> {root.keeps_text}
      </td>
      <td className="act">
        {root.ways.map((way) => (
          <ActLink key={way.label} act={way} />
        ))}
      </td>
    </tr>
  );
}

type Part = View["components"][number];

function Component({ one, site, under, first }: { one: Part; site: string; under?: boolean; first?: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <tr className={first ? "top" : undefined}>
        <td>
          <StateWord state={one.state} />
        </td>
        <td className={under ? "in1 whitespace-nowrap" : "whitespace-nowrap"}>
          <Link className="nm hover:underline" to={`/products/${one.product}`}>
            {one.name}
          </Link>
          <span className="kind">
            {one.active ? one.kind : one.kind === "theme" ? "spare theme" : `${one.kind}, off`}
          </span>
        </td>
        <td className="or">{one.origin}</td>
        <td>
          <span className="v">
            {one.version ?? "absent"}
            {one.target && (
              <>
                <Arrow />
                {one.target}
              </>
            )}
          </span>
        </td>
        <td className="why">
          {under && one.acts?.length ? <Under one={one} /> : one.text}
          <Acts one={one} site={site} under={under} />
        </td>
        <td className="num">
          <button className="t underline" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Less" : "More"}
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={6} className="more">
            <More one={one} site={site} />
          </td>
        </tr>
      )}
    </>
  );
}

/** Of a component whose root is told above it: what each act would bring. */
function Under({ one }: { one: Part }) {
  return (
    <span title={one.text}>
      {byVersion(one.acts ?? [], one.newest ?? "").map(([version, texts]) => (
        <span key={version} className="block">
          To <span className="v">{version}</span>: {texts.join(", or: ")}.
        </span>
      ))}
    </span>
  );
}

/** What would bring it on, the first act said, each to be seen without changing anything. */
function Acts({ one, site, under }: { one: Part; site: string; under?: boolean }) {
  const [first, ...others] = one.acts ?? [];
  if (!first) return null;
  const query = new URLSearchParams(first.suppose.map((text): [string, string] => ["if", text]));
  return (
    <span className="block text-ink" title={others.map((other) => `Or: ${other.text}.`).join("\n")}>
      {!under && `${first.brings ? `To ${first.brings}: ` : ""}${first.text}. `}
      <Link className="t underline" to={`/sites/${site}/plan?${query.toString()}`}>
        See it
      </Link>
    </span>
  );
}

/** The four answers to "newest", what lies between, and the mark of what was made for the site. */
function More({ one, site }: { one: Part; site: string }) {
  const [kind = "", slug = ""] = one.product.split("/");
  const mark = useMutation({
    mutationFn: () => {
      const path = { params: { path: { id: site, kind, slug } } };
      const way = "/api/v1/sites/{id}/own/{kind}/{slug}";
      return told(one.own ? api.DELETE(way, path) : api.PUT(way, path));
    },
    onSettled: () => void queries.invalidateQueries({ queryKey: ["site", site] }),
  });
  const four: [string, string | null | undefined][] = [
    ["known to its maker", one.four?.maker],
    ["carried by this site’s theme", one.four?.carried],
    ["its licence allows", one.four?.licence],
    ["policy allows", one.four?.policy],
  ];
  const passes = one.passes;
  return (
    <div className="grid gap-x-8 gap-y-2 py-2 text-[13px] md:grid-cols-[280px_1fr]">
      <dl className="grid grid-cols-[1fr_auto] gap-x-3">
        <dt className="qq col-span-2">newest, four answers</dt>
        {four.map(([word, version]) => (
          <div key={word} className="contents">
            <dt className="q">{word}</dt>
            <dd className="v">{version ?? "–"}</dd>
          </div>
        ))}
        {one.folder && (
          <>
            <dt className="q">its folder</dt>
            <dd className="v">{one.folder}</dd>
          </>
        )}
      </dl>
      <div>
        {passes ? (
          <>
            <p className="qq">
              {passes.start} to {passes.end} passes {plural(passes.releases.length, "release")}
              {passes.silent.length > 0 && `; ${passes.silent.join(", ")} say nothing of what changed`}
            </p>
            <ul>
              {passes.changes.slice(0, 12).map((told) => (
                <li key={told.version + told.change.text}>
                  <span className="v">{told.version}</span>{" "}
                  <span
                    className={
                      told.change.kind === "security" || told.change.kind === "breaking" ? "text-alarm" : "q"
                    }
                  >
                    {told.change.kind}
                  </span>{" "}
                  {told.change.text}
                </li>
              ))}
              {passes.changes.length > 12 && <li className="qq">and {passes.changes.length - 12} more</li>}
            </ul>
            {passes.licence && (
              <p>
                From <span className="v">{passes.licence_at}</span> it asks for a {passes.licence.form} licence
                {passes.licence.grace_days ? `, with ${plural(passes.licence.grace_days, "day")} of grace` : ""}.
              </p>
            )}
            {passes.tasks.map((task) => (
              <p key={task.text}>
                Afterwards, by {task.by === "agent" ? "the agent" : "a person"}: {task.text}.
              </p>
            ))}
          </>
        ) : (
          <p className="qq">Nothing lies between it and the newest.</p>
        )}
        {one.kind !== "runtime" && one.kind !== "core" && one.version && (
          <p className="pt-1">
            <button className="t underline" disabled={mark.isPending} onClick={() => mark.mutate()}>
              {one.own ? "It was not made for this site" : "It was made for this site"}
            </button>
            <span className="qq">
              {" "}
              {one.own ? "Offers of its name are taken again." : "Offers that share its folder’s name are refused."}
            </span>
          </p>
        )}
      </div>
    </div>
  );
}

/** What the site could do without: apart from the plan, never done by itself. */
function Proposals({ view }: { view: View }) {
  if (!view.proposals || view.proposals.length === 0) return null;
  return (
    <section aria-label="Proposed apart" className="pb-3">
      <h2 className="border-b border-line-strong pb-1">Proposed apart from the plan</h2>
      <ul className="out">
        {view.proposals.map((one) => (
          <li key={one.product + one.why}>{one.text}</li>
        ))}
      </ul>
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
