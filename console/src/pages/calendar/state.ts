/** What the calendar says in words. No React here. */
import { clock, day, plural } from "../../pieces/time";
import type { Night, Nights } from "./layout";

const DAY = 86_400_000;

/** "Nights of 23 to 29 Nov". */
export function title(nights: Nights): string {
  const [, first, month] = day(nights.start).split(" ");
  const [, last, until] = day(new Date(Date.parse(nights.end) - DAY)).split(" ");
  return `Nights of ${first}${month === until ? "" : ` ${month}`} to ${last} ${until}`;
}

export function tally(nights: Nights): string {
  const idle = nights.clear ? `${nights.clear} with nothing to do` : "";
  return [`${plural(nights.booked, "site")} in them`, nights.unbooked ? `${nights.unbooked} not booked` : "", idle]
    .filter(Boolean)
    .join(", ");
}

/** That what could be booked is being worked out, and as of when it is shown; "" where it is final. */
export function unfinished(nights: Nights): string {
  if (nights.final) return "";
  return nights.proposed_at == null ? "Working it out…" : `Updating, as of ${clock(nights.proposed_at)}`;
}

/** How a booking stands, in words. */
export function standing(night: Night): string {
  switch (night.state) {
    case "approved":
      return night.pinned ? "approved, and pinned there" : "approved";
    case "not yet":
      return "not yet approved";
    case "running":
      return "under way";
    case "done":
      return "done";
    case "failed":
      return "ended badly";
  }
}

/** The whole of a booking for whoever hears it: who, when, how it stands. */
export function spoken(night: Night): string {
  return `${night.label}, ${day(night.starts_at)}, ${clock(night.starts_at)} to ${clock(night.ends_at)}, ${standing(night)}`;
}

/** The look of a bar. A hollow one in alarm closes what should not wait for a word. */
export function look(night: Night): string {
  if (night.state === "not yet") return night.due_for.startsWith("advisory") ? "urgent" : "hollow";
  if (night.state === "approved") return night.rollout != null ? "wave" : "full";
  return night.state;
}

/** The nights with what is in each, for the list: those with nothing are left out. */
export function byNight(nights: Nights): { start: string; night: Night[]; frozen: Nights["frozen"] }[] {
  const from = Date.parse(nights.start);
  const count = Math.max(1, Math.round((Date.parse(nights.end) - from) / DAY));
  return Array.from({ length: count }, (_, n) => {
    const start = from + n * DAY;
    const within = (at: string) => Date.parse(at) >= start && Date.parse(at) < start + DAY;
    return {
      start: new Date(start).toISOString(),
      night: nights.bookings.filter((one) => within(one.starts_at)),
      frozen: nights.frozen.filter(
        (one) => !one.site && !one.client && !one.host && Date.parse(one.start) < start + DAY * 0.7 && Date.parse(one.end) > start + DAY * 0.5,
      ),
    };
  }).filter((one) => one.night.length > 0 || one.frozen.length > 0);
}

/** The day that so many nights before or after begins. */
export function moved(first: string, nights: number): string {
  const at = new Date(Date.parse(first) + nights * DAY);
  return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`;
}
