/** Times and counts in words. No React here. */

import { now } from "./now";

const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");

const two = (n: number) => String(n).padStart(2, "0");

/** "01:10", in the reader's own zone. */
export function clock(at: string | Date): string {
  const when = new Date(at);
  return `${two(when.getHours())}:${two(when.getMinutes())}`;
}

/** "Tue 24 Nov", with the year where it is not this one. */
export function day(at: string | Date): string {
  const when = new Date(at);
  const year = when.getFullYear() === new Date(now()).getFullYear() ? "" : ` ${when.getFullYear()}`;
  return `${DAYS[when.getDay()]} ${when.getDate()} ${MONTHS[when.getMonth()]}${year}`;
}

/** "4 min", "5 h", "2 days"; null is "never". */
export function span(at: string | null | undefined, from = now()): string {
  if (!at) return "never";
  const seconds = Math.abs(from - new Date(at).getTime()) / 1000;
  if (seconds < 60) return "1 min";
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86400)} days`;
}

/** How many days from today until a day, by the reader's calendar; below 0 once it has passed. */
export function daysTo(at: string, from = now()): number {
  const midnight = (when: Date) => new Date(when.getFullYear(), when.getMonth(), when.getDate()).getTime();
  // A day by itself is that day wherever one reads it.
  const then = at.length === 10 ? new Date(`${at}T00:00:00`) : new Date(at);
  return Math.round((midnight(then) - midnight(new Date(from))) / 86_400_000);
}

/**
 * A booking's why then, where its time stands beside it: without the time it begins with. Where the
 * site's clock shows another, it is told that all of it goes by that clock.
 */
export function reasonOf(why: string, at: string | null | undefined): string {
  const [, head, hour, rest] = /^([A-Z][a-z]{2} \d+ [A-Z][a-z]{2} (\d\d:\d\d)): (.*)$/s.exec(why) ?? [];
  const told = rest === undefined ? why : !at || clock(at) === hour ? rest : `by the site’s clock, ${head}: ${rest}`;
  return `${told[0]?.toUpperCase() ?? ""}${told.slice(1)}`;
}

export const plural = (n: number, one: string, many = `${one}s`) =>
  `${n} ${n === 1 ? one : many}`;
