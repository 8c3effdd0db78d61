import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { asked, type SiteSummary, type State } from "../../api/client";
import { Belt } from "../../belt/belt";
import { totals } from "../../belt/layout";
import { Load } from "../../pieces/load";
import { clock, day, plural, span } from "../../pieces/time";
import { Age } from "../../pieces/words";
import { Word } from "../../pieces/word";
import { StateWord, WORST_FIRST } from "../../states/states";
import { Picked } from "./picked";
import { toggled, toggledAll } from "./picks";
import { RefreshSites } from "./refresh";
import { RegisterSite } from "./register";
import { type Filter, narrow, readFilter, writeFilter } from "./filter";
import { now } from "../../pieces/now";

const OLD_MINUTES = 60;

export function SitesPage() {
  const today = useQuery(asked.today());
  const [params, setParams] = useSearchParams();
  const filter = readFilter(params);
  const set = (change: Partial<Filter>) =>
    setParams(writeFilter({ ...filter, ...change }), { replace: true });
  const sites = today.data?.sites ?? [];
  const running = useQuery({ ...asked.running(filter.runs), enabled: filter.runs !== "" });
  const ids = filter.runs && running.data ? new Set(running.data.map((s) => s.id)) : null;
  const shown = narrow(sites, filter, ids);
  const narrowed = shown.length < sites.length;
  const [picks, setPicks] = useState<ReadonlySet<string>>(new Set());
  return (
    <>
      {today.data && (
        <Belt sites={sites} subjects={narrowed ? shown.map((s) => s.id) : []}>
          <Caption sites={shown} all={sites.length} />
        </Belt>
      )}
      <main id="main" className="page">
        <title>Sites · Windbreak</title>
        <div className="head">
          <h1>Sites</h1>
          <input
            className="in h-[30px] w-[300px] max-w-full text-[13px]"
            aria-label="Name, client, tag or address"
            placeholder="Name, client or address"
            value={filter.text}
            onChange={(event) => set({ text: event.target.value })}
          />
          <span className="q">
            {narrowed ? `${shown.length} of ${plural(sites.length, "site")}` : plural(sites.length, "site")}
            , worst first
          </span>
          <span className="sp" />
          <RefreshSites sites={shown} narrowed={narrowed} />
          <RegisterSite />
        </div>
        <div className="words flex-wrap pb-2">
          <span>of</span>
          <Word
            any="any client"
            value={filter.client}
            options={values(sites, (s) => s.client)}
            onChange={(client) => set({ client })}
          />
          <span>on</span>
          <Word
            any="any host"
            value={filter.host}
            options={values(sites, (s) => s.host ?? "")}
            onChange={(host) => set({ host })}
          />
          <span>in</span>
          <Word
            any="any state"
            value={filter.state}
            options={WORST_FIRST.filter((one) => sites.some((s) => s.state === one))}
            onChange={(state) => set({ state: state as State | "" })}
          />
          {sites.some((s) => s.tags.length > 0) && (
            <>
              <span>with</span>
              <Word
                any="any tag"
                value={filter.tag}
                options={[...new Set(sites.flatMap((s) => s.tags))].sort()}
                onChange={(tag) => set({ tag })}
              />
            </>
          )}
          <Fact value={filter.runs} onChange={(runs) => set({ runs })} />
        </div>
        {running.isError && (
          <p className="state-note bad" role="alert">
            {running.error.message} Nothing is narrowed by it.
          </p>
        )}
        <Load query={today}>
          {() => <Table sites={shown} all={sites.length} picks={picks} onPicks={setPicks} />}
        </Load>
        <Picked sites={sites.filter((site) => picks.has(site.id))} onNone={() => setPicks(new Set())} />
      </main>
    </>
  );
}

const values = (sites: SiteSummary[], of: (site: SiteSummary) => string) =>
  [...new Set(sites.map(of))].filter(Boolean).sort();

/** "that run …": a fact about what is installed; it is asked when it was written out. */
function Fact({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const [text, setText] = useState(value);
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        onChange(text.trim());
      }}
    >
      <label htmlFor="fact">that run</label>
      <input
        id="fact"
        className={value ? "in h-[26px] w-[130px] text-[13px] text-accent" : "in h-[26px] w-[130px] text-[13px]"}
        placeholder="trestle<5.1"
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          if (event.target.value === "") onChange("");
        }}
      />
    </form>
  );
}

function Caption({ sites, all }: { sites: SiteSummary[]; all: number }) {
  const { moves, sites: on, of: sum, held, beyondMoves, beyondSites } = totals(sites);
  return (
    <p className="caption">
      <b>
        {plural(moves, "move")} wait on {on} of {plural(all, "site")}
      </b>
      {sum("core")} core, {plural(sum("theme"), "theme")}, {plural(sum("plugin"), "plugin")},{" "}
      {plural(sum("runtime"), "runtime")}.{held > 0 && ` Held: ${held}, not counted here.`}
      {beyondMoves > 0 && ` ${beyondMoves} more on ${plural(beyondSites, "site")} out of reach.`}
    </p>
  );
}

const KINDS = ["core", "theme", "plugin", "runtime"];

interface Picks {
  picks: ReadonlySet<string>;
  onPicks: (picks: ReadonlySet<string>) => void;
}

function Table({ sites, all, ...picks }: { sites: SiteSummary[]; all: number } & Picks) {
  if (all === 0)
    return (
      <p className="q py-3">
        No site is registered yet. Register one at a terminal:{" "}
        <span className="v">windbreak site add LABEL ADDRESS</span>
      </p>
    );
  if (sites.length === 0) return <p className="q py-3">No site fits. All {all} are still there.</p>;
  return <Rows sites={sites} {...picks} />;
}

const AT_FIRST = 150;

/** Rows are drawn as they are scrolled to, so that thousands of sites are no burden. */
function Rows({ sites, picks, onPicks }: { sites: SiteSummary[] } & Picks) {
  const [most, setMost] = useState(AT_FIRST);
  const foot = useRef<HTMLParagraphElement>(null);
  useEffect(() => {
    if (!foot.current) return;
    const seen = new IntersectionObserver(
      (entries) => entries.some((one) => one.isIntersecting) && setMost((n) => n + AT_FIRST),
      { rootMargin: "600px" },
    );
    seen.observe(foot.current);
    return () => seen.disconnect();
  }, [most, sites.length]);
  return (
    <>
    <table className="rows plainend">
      <thead>
        <tr>
          <th className="w-[24px]">
            <input
              type="checkbox"
              aria-label="Pick all that are shown"
              checked={sites.length > 0 && sites.every((site) => picks.has(site.id))}
              onChange={() => onPicks(toggledAll(picks, sites.map((site) => site.id)))}
            />
          </th>
          <th className="w-[86px]">state</th>
          <th>site, client</th>
          <th>host</th>
          {KINDS.map((kind) => (
            <th key={kind} className="k">
              {kind === "plugin" ? "plugins" : kind}
            </th>
          ))}
          <th className="k hl">held</th>
          <th>worst reason</th>
          <th className="whitespace-nowrap">next booking</th>
          <th className="num">facts</th>
        </tr>
      </thead>
      <tbody>
        {sites.slice(0, most).map((site) => (
          <Row
            key={site.id}
            site={site}
            picked={picks.has(site.id)}
            onPick={() => onPicks(toggled(picks, site.id))}
          />
        ))}
      </tbody>
    </table>
    {most < sites.length && (
      <p ref={foot} className="q py-2" role="status">
        {most} of {sites.length} shown; scroll for more.
      </p>
    )}
    </>
  );
}

const count = (n: number) => (n ? n : <span className="z">·</span>);

function Row({ site, picked, onPick }: { site: SiteSummary; picked: boolean; onPick: () => void }) {
  const old = site.facts_at && now() - Date.parse(site.facts_at) > OLD_MINUTES * 60_000;
  return (
    <tr className={picked ? "sel" : undefined}>
      <td>
        <input type="checkbox" aria-label={`Pick ${site.label}`} checked={picked} onChange={onPick} />
      </td>
      <td>
        <StateWord state={site.state} />
      </td>
      <td className={site.twin_of ? "tw whitespace-nowrap" : "whitespace-nowrap"}>
        <Link to={`/sites/${site.id}`} className="nm hover:underline">
          {site.label}
        </Link>
        {!site.twin_of && <span className="kind">{site.client}</span>}
      </td>
      <td className="q whitespace-nowrap">{site.host_name}</td>
      {KINDS.map((kind) => (
        <td key={kind} className="k">
          {count(site.moves[kind] ?? 0)}
        </td>
      ))}
      <td className="k hl">{count(site.held)}</td>
      <td className="why w-full max-w-0 truncate" title={site.text}>
        {site.text}
      </td>
      <td className="whitespace-nowrap">
        {site.running ? (
          <Link className="underline" to={`/runs/${site.running}`}>
            now
          </Link>
        ) : site.next_booking ? (
          `${day(site.next_booking).slice(0, 6)}, ${clock(site.next_booking)}`
        ) : (
          <span className="qq">{site.approved ? "approved, not booked" : "no booking"}</span>
        )}
      </td>
      <td className={old ? "num whitespace-nowrap text-block" : "num q whitespace-nowrap"}>
        {site.facts_at ? <Age at={site.facts_at} /> : span(null)}
      </td>
    </tr>
  );
}
