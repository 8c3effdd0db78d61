import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { asked } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Load } from "../../pieces/load";
import { clock, day, plural } from "../../pieces/time";
import { Glyph } from "../../states/states";
import { ApproveReady } from "../rollout/approve-button";
import { drawn, keyOf, type Night, type Nights } from "./layout";
import { NightList } from "./list";
import { Picture } from "./picture";
import { About } from "./about";
import { Strip } from "./strip";
import { byNight, moved, spoken, standing, tally, title, unfinished } from "./state";

const WEEK = 7;
const NARROW = 720;

export function CalendarPage() {
  const [search, setSearch] = useSearchParams();
  const from = search.get("from");
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";
  const query = useQuery({ ...asked.nights(from, WEEK, zone), placeholderData: keepPreviousData });
  const today = useQuery(asked.today());
  const [picked, setPicked] = useState<string | null>(null);
  const [asTable, setAsTable] = useState(false);
  const nights = query.data;
  const current = nights?.bookings.find((one) => keyOf(one) === picked) ?? first(nights);
  const go = (by: number) => {
    if (nights) setSearch({ from: moved(nights.start, by) });
  };
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={current ? [current.site] : []}>
          <p className="caption">
            <b>{current ? `${current.label} is picked` : "No site is booked"}</b>
            {nights && tally(nights)}
            <span role="status">{nights && unfinished(nights) && `. ${unfinished(nights)}`}</span>
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>Calendar · Windbreak</title>
        <Load query={query} rows={10}>
          {(told) => (
            <>
              <div className="head">
                <h1>{title(told)}</h1>
                <span className="q">times in {zone}</span>
                <span className="sp" />
                <Legend />
                <span className="acts">
                  <button className="btn" onClick={() => go(-WEEK)}>
                    Earlier
                  </button>
                  <button className="btn" onClick={() => go(WEEK)}>
                    Later
                  </button>
                  <button className="btn" aria-pressed={asTable} onClick={() => setAsTable(!asTable)}>
                    As a table
                  </button>
                  <a className="btn" href="/api/v1/freezes.ics" download="freezes.ics">
                    As iCalendar
                  </a>
                  <ApproveReady />
                </span>
              </div>
              <Body nights={told} asTable={asTable} current={current} onPick={setPicked} />
            </>
          )}
        </Load>
      </main>
    </>
  );
}

/** What is picked before anybody picks: what comes next. */
function first(nights: Nights | undefined): Night | undefined {
  const now = nights ? Date.parse(nights.at) : 0;
  return nights?.bookings.find((one) => Date.parse(one.ends_at) >= now) ?? nights?.bookings[0];
}

function Legend() {
  return (
    <span className="legend nights-legend" aria-hidden="true">
      <i className="night wave" /> approved <i className="night hollow" /> not yet <i className="night opened" /> window{" "}
      <i className="night frozen" /> freeze
    </span>
  );
}

function Body({
  nights,
  asTable,
  current,
  onPick,
}: {
  nights: Nights;
  asTable: boolean;
  current: Night | undefined;
  onPick: (key: string) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1216);
  useEffect(() => {
    if (!box.current) return;
    const seen = new ResizeObserver(([entry]) => {
      if (entry) setWidth(entry.contentRect.width);
    });
    seen.observe(box.current);
    return () => seen.disconnect();
  }, []);
  const picture = useMemo(() => drawn(nights, Math.max(width, NARROW)), [nights, width]);
  if (width < NARROW)
    return (
      <div ref={box}>
        <Strip nights={nights} width={width} />
        <NightList nights={nights} current={current} onPick={onPick} />
        <NotBooked nights={nights} />
      </div>
    );
  return (
    <div ref={box}>
      {asTable ? (
        <Table nights={nights} onPick={onPick} />
      ) : (
        <Picture picture={picture} nights={nights} width={width} current={current} onPick={onPick} />
      )}
      <NotBooked nights={nights} />
      {current && (
        <div className="actbar">
          <About night={current} />
        </div>
      )}
    </div>
  );
}

function Table({ nights, onPick }: { nights: Nights; onPick: (key: string) => void }) {
  return (
    <table className="rows plainend">
      <thead>
        <tr>
          <th className="w-[150px]">night</th>
          <th className="w-[110px]">when</th>
          <th className="w-[230px]">site</th>
          <th className="w-[90px]">host</th>
          <th className="w-[150px]">how it stands</th>
          <th>why then</th>
        </tr>
      </thead>
      <tbody>
        {byNight(nights).flatMap((one) =>
          one.night.map((night) => (
            <tr key={keyOf(night)}>
              <td className="q">{day(one.start)}</td>
              <td className="v">
                {clock(night.starts_at)}–{clock(night.ends_at)}
              </td>
              <td>
                <button className="nm hover:underline" onClick={() => onPick(keyOf(night))} aria-label={spoken(night)}>
                  {night.label}
                </button>
              </td>
              <td className="q">{nights.hosts.find((host) => host.id === night.host)?.name ?? "elsewhere"}</td>
              <td className="q">{standing(night)}</td>
              <td className="why">{night.why}</td>
            </tr>
          )),
        )}
      </tbody>
    </table>
  );
}

const MOST = 4;

export function NotBooked({ nights }: { nights: Nights }) {
  const none = nights.left_out.length === 0 && nights.stays_out.length === 0 && nights.clear === 0;
  return (
    <section className="notbooked" aria-label="Not booked, and why">
      <h2>Not booked, and why</h2>
      {none && <p className="q py-2">Every site has its night.</p>}
      <ul className="unbooked">
        {nights.left_out.map((one) => (
          <li key={one.text}>
            <Glyph state="waiting" />
            <span className="nm">
              {one.sites.slice(0, MOST).map((site, n) => (
                <span key={site}>
                  {n > 0 && ", "}
                  <Link to={`/sites/${site}/plan`}>{one.labels[n]}</Link>
                </span>
              ))}
              {one.sites.length > MOST && ` and ${one.sites.length - MOST} more`}
            </span>
            <span className="q">{one.text}</span>
          </li>
        ))}
        {nights.stays_out.map((one) => (
          <li key={one.text}>
            <Glyph state={one.state} />
            <span className="nm">
              {one.labels.slice(0, MOST).join(", ")}
              {one.labels.length > MOST && ` and ${one.labels.length - MOST} more`}
            </span>
            <span className="q">
              {one.text} {one.sites[0] && <Link to={`/sites/${one.sites[0]}`}>See it</Link>}
            </span>
          </li>
        ))}
        {nights.clear > 0 && (
          <li>
            <Glyph state="clear" />
            <span className="nm">{plural(nights.clear, "site")}</span>
            <span className="q">Nothing is to be done there.</span>
          </li>
        )}
      </ul>
    </section>
  );
}
