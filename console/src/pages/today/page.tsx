import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { commandOf, pageOf } from "../../api/acts";
import { asked, type Finding, type Schemas } from "../../api/client";
import { Belt } from "../../belt/belt";

import { Tally } from "../../belt/tally";
import { Load } from "../../pieces/load";
import { clock, day, daysTo, plural } from "../../pieces/time";
import { Age, Sentence } from "../../pieces/words";
import { Glyph, StateWord } from "../../states/states";
import { ApproveReady } from "../rollout/approve-button";
import { Asleep, Snooze } from "./snooze";

type Told = Schemas["Today"];

export function TodayPage() {
  const today = useQuery(asked.today());
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites}>
          <Tally sites={today.data.sites} />
        </Belt>
      )}
      <main id="main" className="page">
        <title>Today · Windbreak</title>
        <Load query={today} rows={6}>
          {(told) => (
            <>
            {!told.drives && (
              <p className="state-note bad" role="alert">
                This service is a restored copy and drives no site. When the one it was copied from is stopped:{" "}
                <span className="v">windbreak take-over --why …</span>
              </p>
            )}
            <div className="cols">
              <Queue told={told} />
              <Side told={told} />
            </div>
            </>
          )}
        </Load>
      </main>
    </>
  );
}

function Queue({ told }: { told: Told }) {
  const { moves, sites: on, beyond_moves: beyond, beyond_sites: far } = told.totals;
  const count = told.findings.length;
  return (
    <section aria-label="What wants attention">
      <div className="qhead">
        <h1>{count === 1 ? "1 finding wants you" : `${count || "No"} findings want you`}</h1>
        <span className="q">
          {count > 0 && "most urgent first · "}
          {plural(moves, "move")} wait on {plural(on, "site")}
          {beyond > 0 && `, ${beyond} more on ${far} out of reach`}
        </span>
        {told.drives && moves > 0 && <ApproveReady />}
      </div>
      <FirstDay steps={told.beginnings ?? []} />
      {count === 0 && !told.beginnings?.length && (
        <p className="q py-3">
          Looked at <Age at={told.at} suffix=" ago" />. A new release, a lost link or a run that went
          wrong would stand here.
        </p>
      )}
      <ol>
        {told.findings.map((finding, index) => (
          <Row key={finding.id} finding={finding} first={index === 0} />
        ))}
      </ol>
      <Asleep findings={told.asleep} />
    </section>
  );
}

/** What there is to do before the first plan; it ticks itself. */
function FirstDay({ steps }: { steps: Schemas["Beginning"][] }) {
  if (steps.length === 0) return null;
  return (
    <section aria-label="The first day" className="py-3">
      <h2>The first day</h2>
      <ol className="out">
        {steps.map((step) => (
          <li key={step.act.act}>
            <Glyph state={step.done ? "clear" : "unknown"} />{" "}
            <b className={step.done ? "text-ink-3" : "text-ink"}>{step.act.label}</b>
            <span className="sr-only">{step.done ? ", done" : ", to do"}</span> {step.why}
            {!step.done && <code className="v block text-[12px] text-ink-2">{commandOf(step.act)}</code>}
          </li>
        ))}
      </ol>
    </section>
  );
}

/** A finding: its act leads to the page where it is done, else it is told as its command. */
function Row({ finding, first }: { finding: Finding; first: boolean }) {
  const { act } = finding;
  const page = pageOf(act);
  return (
    <li className="finding">
      <div className="when">
        <StateWord state={finding.state} />
        <span className={finding.deadline ? "by" : "by none"} title={finding.deadline ? day(finding.deadline) : ""}>
          {finding.deadline ? due(finding.deadline) : "no date"}
        </span>
      </div>
      <div>
        <p>
          <Sentence text={finding.headline} />
        </p>
        <p className="q">
          <Sentence text={finding.text} />
          {finding.weight !== "critical" && <Snooze finding={finding} />}
        </p>
      </div>
      <div className="act">
        {page ? (
          <Link className={first ? "btn go" : "btn"} to={page}>
            {act.label}
          </Link>
        ) : (
          <code className="v text-[12px] text-ink-2" title={`${act.label}: at a terminal`}>
            {commandOf(act)}
          </code>
        )}
      </div>
    </li>
  );
}

/** "6 days left" while it is near, the day else; what has passed says so. */
function due(at: string): string {
  const left = daysTo(at);
  if (left < 0) return `since ${day(at).slice(4)}`;
  if (left === 0) return "today";
  return left <= 14 ? `${plural(left, "day")} left` : day(at).slice(4);
}

const A_NIGHT = 18 * 3_600_000;
const MOST_BOOKED = 12;

function Side({ told }: { told: Told }) {
  const label = (id: string) => told.sites.find((s) => s.id === id)?.label ?? id;
  const linked = told.sites.filter((s) => s.link === "linked").length;
  const night = Date.parse(told.at) + A_NIGHT;
  const tonight = told.bookings.filter((one) => Date.parse(one.starts_at) <= night);
  const shown = tonight.length > 0 ? tonight : told.bookings;
  return (
    <aside className="side">
      <section>
        <h2>
          {tonight.length > 0 ? "Tonight" : "Booked"} <span>{plural(shown.length, "booking")}</span>
        </h2>
        {told.bookings.length === 0 && <p className="qq pt-2">Nothing is booked.</p>}
        {shown.slice(0, MOST_BOOKED).map((booking) => (
          <div key={booking.id} className="bk" title={booking.why}>
            <span className="v">
              {day(booking.starts_at).slice(0, 6)} {clock(booking.starts_at)}
            </span>
            <Link to={`/sites/${booking.site}/plan`}>{label(booking.site)}</Link>
            <span className="qq">{booking.watched ? "watched" : `${booking.minutes} min`}</span>
          </div>
        ))}
        {told.bookings.length > 0 && (
          <p className="qq pt-2">
            {tonight.length > 0 && told.bookings.length > tonight.length && `${told.bookings.length - tonight.length} more on later nights. `}
            <Link to="/calendar">See the nights</Link>
          </p>
        )}
      </section>
      <section>
        <h2>
          As of <span>{clock(told.at)}</span>
        </h2>
        <div className="fr">
          <Glyph state={linked === told.sites.length ? "clear" : "unknown"} />
          <span>
            {linked} of {plural(told.sites.length, "site")} linked
          </span>
          <span />
        </div>
        {told.feeds.map(([name, text, polled]) => (
          <div key={name} className="fr" title={text}>
            <Glyph state={text === "fresh" ? "clear" : "blocked"} />
            <span>{name}</span>
            <span>
              <Age at={polled} />
            </span>
          </div>
        ))}
      </section>
    </aside>
  );
}
