import { useQuery } from "@tanstack/react-query";
import { asked, type Schemas } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Load } from "../../pieces/load";
import { day, daysTo, plural } from "../../pieces/time";
import { Glyph } from "../../states/states";
import { Credentials } from "./credentials";
import { Feeds } from "./feeds";
import { EnterCode, GiveSeat } from "./seats";
import { Uncovered } from "./uncovered";
import { now } from "../../pieces/now";

type View = Schemas["LicenceView"];
type Seat = Schemas["SeatView"];

export function LicencesPage() {
  const licences = useQuery(asked.licences());
  const forecasts = useQuery(asked.forecasts());
  const today = useQuery(asked.today());
  const views = licences.data ?? [];
  const wanting = views.flatMap((view) => [
    ...view.without,
    ...view.seats.filter((s) => s.state === "grace" || s.state === "missing").map((s) => s.seat.site),
  ]);
  const first = forecasts.data?.[0];
  const wanted = new Map(
    (forecasts.data ?? []).map((told) => [bearer(views, told)?.licence.id, told.missing]),
  );
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={[...new Set([...wanting, ...(first?.sites ?? [])])]}>
          <p className="caption">
            <b>
              {first
                ? `${first.name} ${first.version}: ${plural(first.needed, "site")} below it, ${first.free ?? "no limit of"} seats free`
                : "Every release that is known has its seats"}
            </b>
            {first?.missing ? `${plural(first.missing, "seat")} to buy before the first wave.` : ""}
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>Licences & feeds · Windbreak</title>
        <div className="two licences">
          <section aria-label="Licences">
            <div className="hd">
              <h1>Licences</h1>
              <Key />
            </div>
            <div className="cap capl">
              <span>licence, form, seats</span>
              <span>covers until, ends</span>
              <span>what stops then</span>
            </div>
            <Load query={licences} rows={8}>
              {(list) =>
                list.length ? (
                  <ul>
                    {list.map((view) => (
                      <Licence key={view.licence.id} view={view} missing={wanted.get(view.licence.id) ?? 0} />
                    ))}
                  </ul>
                ) : (
                  <p className="q py-3">
                    No licence is entered. At a terminal:{" "}
                    <span className="v">windbreak licence add ID LABEL FORM</span>
                  </p>
                )
              }
            </Load>
            {forecasts.data?.map((told) => (
              <p key={told.product} className="py-2 text-[13px]">
                <Glyph state={told.missing ? "blocked" : "waiting"} /> {told.text}
              </p>
            ))}
          </section>
          <Feeds />
        </div>
        <Credentials />
        <Uncovered />
      </main>
    </>
  );
}

/** The licence whose seats a forecast asks for: the one with the most of them. */
function bearer(views: View[], told: Schemas["Forecast"]): View | undefined {
  return views
    .filter((view) => view.licence.form === told.form && view.covers.includes(told.product))
    .sort((a, b) => b.own - a.own)[0];
}

function Key() {
  const keys = [
    ["", "in place"],
    ["grace", "in grace"],
    ["free", "bought"],
    ["want", "to buy"],
    ["ride", "a copy, riding"],
  ];
  return (
    <span className="keys">
      {keys.map(([kind, word]) => (
        <span key={word}>
          <svg width="9" height="9" aria-hidden="true">
            <rect className={`seat ${kind}`} x="0.5" y="0.5" width="8" height="8" />
          </svg>
          {word}
        </span>
      ))}
    </span>
  );
}

const MOST_SQUARES = 40;

/** Seats as squares: filled in place, amber in grace, hollow bought, dashed to buy, pale riding. */
function squares(view: View, missing: number): string[] {
  if (!view.licence.code && view.licence.form !== "per-site code" && view.licence.form !== "seats")
    return view.reaches.map(() => "");
  const kind = (seat: Seat) =>
    seat.seat.riding ? "ride" : seat.state === "grace" || seat.state === "missing" ? "grace" : "";
  return [
    ...view.seats.map(kind).sort((a, b) => Number(a === "ride") - Number(b === "ride")),
    ...Array.from({ length: Math.max(0, view.free ?? 0) }, () => "free"),
    ...Array.from({ length: missing }, () => "want"),
  ];
}

function Licence({ view, missing }: { view: View; missing: number }) {
  const { licence } = view;
  const grace = view.seats.filter((s) => s.state === "grace" && !s.seat.riding);
  const ended = licence.expires !== null && Date.parse(licence.expires ?? "") < now() - 86_400_000;
  const state = ended || grace.length || view.without.length || missing ? "blocked" : "clear";
  const drawn = squares(view, missing);
  const seated = licence.form === "per-site code" || licence.form === "seats";
  return (
    <li className="l">
      <div className="a">
        <p className="t">
          <Glyph state={state} />
          <b>{licence.label}</b>
          <span className="kind">{licence.form}</span>
        </p>
        <svg
          className="seats"
          width={Math.min(drawn.length, MOST_SQUARES) * 12}
          height="9"
          role="img"
          aria-label={view.text}
        >
          {drawn.slice(0, MOST_SQUARES).map((kind, n) => (
            <rect key={n} className={`seat ${kind}`} x={n * 12 + 0.5} y="0.5" width="8" height="8" />
          ))}
        </svg>
        <p className="q">
          {seated
            ? `${view.own} taken${view.riders ? `, ${plural(view.riders, "copy", "copies")} riding` : ""}${
                view.free === null ? ", no limit" : `, ${view.free} free`
              }`
            : `${plural(view.reaches.length, "site")}, nothing to allot`}
          {missing > 0 && <span className="is-blocked">, {missing} to buy</span>}
        </p>
        {view.without.length > 0 && (
          <p className="is-blocked">{plural(view.without.length, "site")} without: {view.without.join(", ")}</p>
        )}
        {view.still_old.length > 0 && (
          <p className="is-blocked">the old code is still on {view.still_old.join(", ")}</p>
        )}
        {seated && (
          <p className="flex gap-3 pt-1">
            <GiveSeat view={view} />
            {view.seats.length > 0 && <EnterCode view={view} />}
          </p>
        )}
      </div>
      <div className="b">
        <p className={ended ? "is-blocked" : ""}>
          {licence.expires
            ? `${ended ? "ended" : "ends"} ${day(licence.expires)}`
            : licence.covers_until
              ? `covers to ${day(licence.covers_until)}`
              : licence.form === "through a theme"
                ? "as long as the theme’s"
                : "without end"}
        </p>
        <p className="qq">{licence.bought_by ? `bought by ${licence.bought_by}` : "bought by nobody named"}</p>
        <p className="qq">{licence.renewal}</p>
      </div>
      <div className="c">
        <p className="q">{view.stops}</p>
        {grace.map((seat) => (
          <Grace key={seat.seat.site} seat={seat} />
        ))}
      </div>
    </li>
  );
}

const DAYS_DRAWN = 10;

/** One tick a day, gone ones low and grey, a stroke where it stops. */
function Grace({ seat }: { seat: Seat }) {
  const left = seat.until ? Math.max(0, daysTo(seat.until)) : 0;
  return (
    <p className="gr">
      <svg width="82" height="15" role="img" aria-label={`${left} of ${DAYS_DRAWN} days left`}>
        {Array.from({ length: DAYS_DRAWN }, (_, n) =>
          n < DAYS_DRAWN - left ? (
            <rect key={n} x={n * 7.8} y="9" width="5.3" height="4" className="day-gone" />
          ) : (
            <rect key={n} x={n * 7.8} y="2" width="5.3" height="11" className="day-left" />
          ),
        )}
        <path d="M79 0v14" className="day-end" />
      </svg>
      <span>
        <b>{plural(left, "day")} left</b>
        <span className="block">
          {seat.site_label}, to {seat.until ? day(seat.until) : "its end"}
        </span>
      </span>
    </p>
  );
}
