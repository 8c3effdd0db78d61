import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { asked, type Schemas } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Load } from "../../pieces/load";
import { day, plural } from "../../pieces/time";
import { Age } from "../../pieces/words";
import { Glyph, STATES, StateWord } from "../../states/states";
import { ApproveButton } from "../rollout/approve-button";
import { Decide } from "./decide";

type View = Schemas["ProductView"];
type OnSite = Schemas["OnSite"];

const KINDS = [
  ["security", "security"],
  ["fix", "fixes"],
  ["feature", "features"],
  ["breaking", "breaking"],
] as const;
const MOST_NAMES = 8;

export function ProductPage() {
  const { kind = "", slug = "" } = useParams();
  const product = useQuery(asked.product(kind, slug));
  const today = useQuery(asked.today());
  const subjects = product.data?.on_sites.map((one) => one.site) ?? [];
  const row = product.data?.row;
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={subjects}>
          {row && (
            <p className="caption">
              <b>
                {row.sites} of {plural(today.data.sites.filter((s) => !s.twin_of).length, "site")} run{" "}
                {row.product.name}
              </b>
              {row.twins > 0 && `and ${plural(row.twins, "twin")} of theirs.`}
            </p>
          )}
        </Belt>
      )}
      <main id="main" className="page">
        <Load query={product} rows={14}>
          {(view) => (
            <>
              <title>{`${view.row.product.name} · Windbreak`}</title>
              <Head view={view} />
              <div className="cols">
                <div className="min-w-0">
                  <Picture view={view} />
                  <Groups view={view} />
                  <Releases view={view} />
                </div>
                <div>
                  <Approvable view={view} />
                  <Decide view={view} />
                  <Frees product={view.row.product.id} />
                </div>
              </div>
            </>
          )}
        </Load>
      </main>
    </>
  );
}

/** Where sites may go now: each version to be approved for all of them, seen before it is. */
function Approvable({ view }: { view: View }) {
  const counts = new Map<string, number>();
  for (const one of view.may) if (one.target) counts.set(one.target, (counts.get(one.target) ?? 0) + 1);
  if (counts.size === 0 || view.row.product.kind === "runtime") return null;
  return (
    <section aria-label="Approve" className="pt-3">
      <h2>Approve for the fleet</h2>
      {[...counts].map(([version, count]) => (
        <p key={version} className="flex items-center justify-between gap-3 py-1 text-[13px]">
          <span>
            <span className="v">{version}</span> <span className="q">may go to {plural(count, "site")}</span>
          </span>
          <ApproveButton label={`Approve ${version}…`} asked={{ product: view.row.product.id, version }} />
        </p>
      ))}
    </section>
  );
}

function Head({ view }: { view: View }) {
  const { row } = view;
  return (
    <div className="head ruled">
      <h1>{row.product.name}</h1>
      <span className="q">
        {row.product.kind}
        {row.product.maker && `, by ${row.product.maker}`} · on {plural(row.sites, "site")}
        {row.twins > 0 && ` and ${plural(row.twins, "twin")}`} · {row.origin} · newest{" "}
        <span className="v">{row.newest ?? "none"}</span>
        {view.carried_in && (
          <>
            , carried newest <span className="v">{view.carried_newest}</span> in {view.carried_in}
          </>
        )}{" "}
        · feed{" "}
        {view.feed_read_at ? (
          <>
            read <Age at={view.feed_read_at} suffix=" ago" />
          </>
        ) : (
          view.feed_state
        )}
      </span>
      {row.product.withdrawn_at && (
        <p className="state-note bad w-full">
          Withdrawn by its maker: {row.product.withdrawn_text} Nothing newer will come, fixes of weaknesses
          included.
        </p>
      )}
    </div>
  );
}

const TWIN = /, twin$/; // what tells two names apart is not cut off

/** Each site stands on the version it runs; below, what lies between it and the newest. */
function Picture({ view }: { view: View }) {
  const { row } = view;
  const above = new Map(view.above.map((one) => [one.start, one]));
  if (row.versions.length === 0) return <p className="q py-3">No site runs it, and no release is known.</p>;
  const columns = { gridTemplateColumns: `76px repeat(${row.versions.length}, minmax(104px, 1fr))` };
  return (
    <section aria-label="Versions in use" className="pt-2">
      <p className="text-[13px]">
        <b>Each site stands on the version it runs.</b>{" "}
        <span className="q">Its mark says what {row.product.name} may do there.</span>
      </p>
      <div className="stand" tabIndex={0} role="group" aria-label="Versions and sites">
        <div className="grid items-end gap-x-3" style={columns}>
          <span />
          {row.versions.map((use) => {
            const here = view.on_sites.filter((one) => use.sites.includes(one.site));
            return (
              <ul key={use.version} className="pb-1">
                {here.length === 0 && <li className="qq">on no site yet</li>}
                {here.length > MOST_NAMES && <li className="qq">and {here.length - MOST_NAMES} more</li>}
                {here.slice(0, MOST_NAMES).map((one) => (
                  <li key={one.site} className="flex items-baseline gap-1 text-[12px] leading-5" title={one.text}>
                    <Glyph state={one.state} />
                    <Link to={`/sites/${one.site}`} className="tap flex min-w-0 hover:underline">
                      <span className="truncate">{one.label.replace(TWIN, "")}</span>
                      {TWIN.test(one.label) && <span className="flex-none">, twin</span>}
                    </Link>
                    <span className="sr-only">, {STATES[one.state].word}</span>
                  </li>
                ))}
              </ul>
            );
          })}
        </div>
        <table className="added">
          <thead>
            <tr>
              <th className="w-[76px]">version</th>
              {row.versions.map((use) => (
                <th key={use.version}>
                  <span className="v text-[14px] font-semibold text-ink">{use.version}</span>{" "}
                  {use.since ? day(use.since).slice(4) : "not told"}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {KINDS.map(([kind, word]) => (
              <tr key={kind}>
                <th scope="row">{word}</th>
                {row.versions.map((use) => {
                  const n = above.get(use.version)?.counts[kind];
                  const grave = n && (kind === "security" || kind === "breaking");
                  return (
                    <td key={use.version} className={grave ? "v font-semibold text-alarm" : "v"}>
                      {use.version === row.newest ? "–" : (n ?? "–")}
                    </td>
                  );
                })}
              </tr>
            ))}
            <tr>
              <th scope="row" title="Releases that say nothing of what changed">
                silent
              </th>
              {row.versions.map((use) => (
                <td key={use.version} className="v">
                  {use.version === row.newest ? "–" : (above.get(use.version)?.silent.length ?? "–")}
                </td>
              ))}
            </tr>
          </tbody>
        </table>
      </div>
      <p className="qq pt-1">
        From each version up to {row.newest ?? "the newest"}, everything in between added up. A silent release
        is not “no change”.
      </p>
    </section>
  );
}

function Groups({ view }: { view: View }) {
  const cannot = view.cannot.reduce((n, group) => n + group.sites.length, 0);
  const short = view.may.filter((one) => one.target !== view.row.newest);
  const rest: { state: "held" | "clear" | "unknown"; word: string; sites: OnSite[] }[] = [
    { state: "held", word: "held", sites: view.held },
    { state: "clear", word: "at the newest for them", sites: view.newest },
    { state: "unknown", word: "not known", sites: view.unknown },
  ];
  return (
    <>
    <div className="three">
      <Few title={`${view.may.length} may move`} state="ready" sites={view.may} none="None may move now." />
      <Few title={`${view.wait.length} wait`} state="waiting" sites={view.wait} none="None waits for its day." />
      <section>
        <h2>
          <Glyph state="blocked" /> {cannot} cannot
          {view.cannot.length > 1 && `, for ${view.cannot.length} reasons`}
        </h2>
        {cannot === 0 && short.length === 0 && (
          <p className="qq pt-2">Nothing stands in anybody’s way.</p>
        )}
        {short.length > 0 && (
          <p className="q pt-2 text-[13px]">
            {short.length} that may move stop short of <span className="v">{view.row.newest}</span>:{" "}
            {short[0]?.text}
          </p>
        )}
        <ul>
          {view.cannot.map((group) => (
            <li key={group.text}>
              <b className="text-block">{group.sites.length}</b>
              <span>
                {group.text}
                <span className="q block">{group.sites.map((one) => one.label).join(", ")}</span>
              </span>
            </li>
          ))}
        </ul>
      </section>
    </div>
    <div className="three">
      {rest.map(
        ({ state, word, sites }) =>
          sites.length > 0 && <Few key={state} title={`${sites.length} ${word}`} state={state} sites={sites} none="" />,
      )}
    </div>
    </>
  );
}

const MOST_LISTED = 12;

function Few({
  title,
  state,
  sites,
  none,
}: {
  title: string;
  state: "ready" | "waiting" | "held" | "clear" | "unknown";
  sites: OnSite[];
  none: string;
}) {
  return (
    <section>
      <h2>
        <Glyph state={state} /> {title}
      </h2>
      {sites.length === 0 && <p className="qq pt-2">{none}</p>}
      <ul>
        {sites.slice(0, MOST_LISTED).map((one) => (
          <li key={one.site} title={one.text}>
            <Glyph state={one.state} />
            <span>
              <Link className="tap hover:underline" to={`/sites/${one.site}${one.target ? "/plan" : ""}`}>
                {one.label}
              </Link>
              {one.target && (
                <>
                  {" "}
                  to <span className="v">{one.target}</span>
                </>
              )}
            </span>
          </li>
        ))}
        {sites.length > MOST_LISTED && <li className="qq">and {sites.length - MOST_LISTED} more</li>}
      </ul>
    </section>
  );
}

/** The acts that free moves of this product, what frees most first. */
function Frees({ product }: { product: string }) {
  const acts = useQuery(asked.acts(product));
  if (!acts.data || acts.data.length === 0) return null;
  return (
    <section aria-label="What frees most" className="pt-3">
      <h2 className="border-b border-line-strong pb-1">What frees most</h2>
      <ul className="out">
        {acts.data.slice(0, 5).map((row) => (
          <li key={row.text}>
            <span className="text-ink">{row.text}</span> frees {plural(row.moves, "move")} on{" "}
            {plural(row.sites.length, "site")}
            {row.security > 0 && `, ${String(row.security)} of them security`}
            {row.alike && row.alike.length > 0 && ` (or ${String(row.alike.length)} like it)`}.{" "}
            {row.frees[0] && (
              <Link
                className="t tap underline"
                to={`/sites/${row.frees[0].site}/plan?${new URLSearchParams(
                  row.suppose.map((text): [string, string] => ["if", text]),
                ).toString()}`}
              >
                See it on {row.frees[0].label}
              </Link>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Releases({ view }: { view: View }) {
  return (
    <section aria-label="Releases" className="pt-3">
      <h2 className="border-b border-line-strong pb-1">Releases</h2>
      <ol className="rel">
        {view.releases.map((one) => (
          <li key={one.id}>
            <span className="v">{one.version}</span>
            <span className="qq">{day(one.published)}</span>
            <div>
              {one.republished && !one.republished.decided && (
                <p className="is-blocked">
                  <Glyph state="blocked" /> Came twice, with different packages: it goes to no site until
                  somebody has decided.
                </p>
              )}
              {view.came?.[one.version] && <p>{view.came[one.version]}</p>}
              {one.withdrawn_at && <p className="is-blocked">Withdrawn; offered to nobody.</p>}
              {one.refused && <p className="is-blocked">Its package was refused: {one.refused}.</p>}
              {one.corrected && <p className="q">{one.corrected}: the package was believed.</p>}
              {one.changes.length === 0 && <p className="qq">Nothing is said of what changed.</p>}
              <ul>
                {one.changes.map((change) => (
                  <li key={change.text}>
                    <span className={change.kind === "security" || change.kind === "breaking" ? "text-alarm" : "q"}>
                      {change.kind}
                    </span>{" "}
                    {change.text}
                    {change.advisory && <span className="v"> {change.advisory}</span>}
                  </li>
                ))}
              </ul>
              {one.licence && (
                <p className="q">
                  Asks for a licence: {one.licence.form}
                  {one.licence.grace_days ? `, ${plural(one.licence.grace_days, "day")} of grace` : ""}.
                </p>
              )}
              {one.tasks.map((task) => (
                <p key={task.text} className="q">
                  Leaves work for {task.by === "agent" ? "the agent" : "a person"}: {task.text}.
                </p>
              ))}
              {one.watch.map((item) => (
                <p key={item.text} className="q">
                  Will come{item.on ? `, ${day(item.on)}` : ""}: {item.text.replace(/\.$/, "")}.
                </p>
              ))}
            </div>
            <span className="qq whitespace-nowrap">{one.sha256 ? "on the shelf" : one.feed}</span>
          </li>
        ))}
      </ol>
      {view.advisories.map((one) => (
        <p key={one.id} className="py-1 text-[13px]">
          <StateWord state="exposed" /> {one.id}, {one.severity}: {one.summary}. Affected:{" "}
          <span className="v">{one.affected}</span>
        </p>
      ))}
    </section>
  );
}
