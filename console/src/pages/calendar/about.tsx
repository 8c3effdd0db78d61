import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, queries, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { clock, day, reasonOf } from "../../pieces/time";
import type { Night } from "./layout";
import { standing } from "./state";

/** One booking: why then, how long it is reckoned to take, and what can be done with it. */
export function About({ night }: { night: Night }) {
  const [asking, setAsking] = useState<"other" | "out" | null>(null);
  return (
    <>
    <section className="picked-bar" aria-label="The booking that is picked" aria-live="polite">
      <h2>
        {night.label}, {day(night.starts_at)}, {clock(night.starts_at)} to {clock(night.ends_at)}
      </h2>
      <p>
        <b>{night.run == null ? "Why then." : "What came of it."}</b> {reasonOf(night.why, night.starts_at)}
      </p>
      <p className="q">
        {night.reckoned} {night.due_for && `It has a date: ${night.due_for}. `}
        {night.watched && `Somebody has to be there: ${night.watched}. `}
        {standing(night)[0]?.toUpperCase()}
        {standing(night).slice(1)}.
      </p>
    </section>
      <div className="picked-acts">
        <Link className="btn go" to={night.run == null ? `/sites/${night.site}/plan` : `/runs/${night.run}`}>
          {night.run == null ? "See the plan" : "See the run"}
        </Link>
        {night.rollout != null && (
          <Link className="btn" to={`/rollouts/${night.rollout}`}>
            See rollout {night.rollout}
          </Link>
        )}
        {night.booking != null && (
          <>
            <button className="btn" onClick={() => setAsking("other")}>
              Other times…
            </button>
            <button className="btn" onClick={() => setAsking("out")}>
              Take it out…
            </button>
          </>
        )}
      </div>
      {night.booking != null && (
        <>
          <OtherTimes night={night} booking={night.booking} open={asking === "other"} onLeave={() => setAsking(null)} />
          <TakeOut night={night} booking={night.booking} open={asking === "out"} onLeave={() => setAsking(null)} />
        </>
      )}
    </>
  );
}

const again = (leave: () => void) => () => {
  leave();
  void queries.invalidateQueries({ queryKey: ["nights"] });
  void queries.invalidateQueries({ queryKey: ["today"] });
};

interface Asking {
  night: Night;
  booking: number;
  open: boolean;
  onLeave: () => void;
}

/** Pin it where it is, give it a time by hand, or let the timetable find a place anew. */
function OtherTimes({ night, booking, open, onLeave }: Asking) {
  const [how, setHow] = useState<"again" | "pin" | "at">("again");
  const [at, setAt] = useState("");
  const [outside, setOutside] = useState(false);
  const path = { params: { path: { id: booking } } };
  const move = useMutation({
    mutationFn: () => {
      if (how === "again") return told(api.POST("/api/v1/bookings/{id}/again", path));
      const body = { at: how === "at" ? new Date(at).toISOString() : null, outside_window: outside };
      return told(api.PUT("/api/v1/bookings/{id}", { ...path, body }));
    },
    onSuccess: again(onLeave),
  });
  return (
    <Ask
      open={open}
      title={`Other times for ${night.label}`}
      go={how === "again" ? "Book it again" : how === "pin" ? "Pin it there" : "Give it this time"}
      busy={move.isPending}
      ready={how !== "at" || at !== ""}
      failed={move.isError ? move.error.message : null}
      onGo={() => move.mutate()}
      onLeave={onLeave}
    >
      <label className="choice">
        <input type="radio" name="how" checked={how === "again"} onChange={() => setHow("again")} />
        let the timetable find its best place again
      </label>
      <label className="choice">
        <input type="radio" name="how" checked={how === "pin"} onChange={() => setHow("pin")} />
        keep it where it is, whatever else changes
      </label>
      <label className="choice">
        <input type="radio" name="how" checked={how === "at"} onChange={() => setHow("at")} />
        at a time of your own
      </label>
      {how === "at" && (
        <div className="pt-2 pl-6">
          <input
            className="in max-w-[230px]"
            type="datetime-local"
            aria-label="The time"
            value={at}
            onChange={(event) => setAt(event.target.value)}
          />
          <label className="choice">
            <input type="checkbox" checked={outside} onChange={(event) => setOutside(event.target.checked)} />
            outside of its windows, if need be
          </label>
        </div>
      )}
    </Ask>
  );
}

function TakeOut({ night, booking, open, onLeave }: Asking) {
  const [why, setWhy] = useState("");
  const out = useMutation({
    mutationFn: () =>
      told(api.DELETE("/api/v1/bookings/{id}", { params: { path: { id: booking }, query: { why } } })),
    onSuccess: again(onLeave),
  });
  return (
    <Ask
      open={open}
      title={`Take ${night.label} out`}
      go="Take it out"
      busy={out.isPending}
      failed={out.isError ? out.error.message : null}
      onGo={() => out.mutate()}
      onLeave={onLeave}
    >
      <p>
        Its plan stays approved, and is booked no more by itself.
        {night.rollout != null && ` Rollout ${night.rollout} goes on without it.`}
      </p>
      <div className="field pt-2">
        <label htmlFor="out-why">Why</label>
        <input id="out-why" className="in" value={why} onChange={(event) => setWhy(event.target.value)} />
        <p className="hint">It stands in the ledger.</p>
      </div>
    </Ask>
  );
}
