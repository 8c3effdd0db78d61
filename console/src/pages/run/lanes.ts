/** The time line of a run whose site is silent, or whose change is slow. No React here. */

import type { RunStory } from "../../api/client";
import { clock, span } from "../../pieces/time";

const MINUTE = 60_000;

/** A stretch of time drawn from left to right; places are percents of it. */
export interface Scale {
  from: number;
  to: number;
  at: (when: string | number) => number;
}

export function scale(from: number, to: number): Scale {
  const wide = Math.max(1, to - from);
  const place = (when: string | number) =>
    ((typeof when === "number" ? when : Date.parse(when)) - from) / wide;
  return { from, to, at: (when) => Math.min(100, Math.max(0, 100 * place(when))) };
}

/** From a little before the last sign to a little after a person is told, or after now. */
export function waitingScale(story: RunStory, now: number): Scale {
  const since = Date.parse(story.run.waiting_since ?? story.run.last_sign_at);
  const signs = story.pace?.signs.map((sign) => Date.parse(sign)) ?? [];
  const from = Math.min(since - 2 * MINUTE, ...signs);
  const told = story.told_at ? Date.parse(story.told_at) : now;
  return scale(from, Math.max(now, told) + Math.max(MINUTE, 0.12 * (Math.max(now, told) - from)));
}

const STEPS = [1, 2, 5, 10, 30, 60, 180, 720, 1440];

/** Full minutes to be written above a scale, eight at the most. */
export function marks({ from, to, at }: Scale, now: number): number[] {
  const step = (STEPS.find((minutes) => (to - from) / (minutes * MINUTE) <= 8) ?? 1440) * MINUTE;
  const first = Math.ceil(from / step) * step;
  const places = [];
  for (let when = first; when < to; when += step) places.push(when);
  // Now is written there itself.
  return places.filter((when) => at(when) < at(now) - 4 || at(when) > at(now) + 12);
}

/** Instants without those that would be drawn over the one before them. */
export function thinned(line: Scale, instants: readonly string[], gap = 1): string[] {
  let last = -Infinity;
  return instants.filter((when) => {
    const free = line.at(when) - last >= gap;
    if (free) last = line.at(when);
    return free;
  });
}

/** The lanes in one sentence, for who can't see them. */
export function inWords(story: RunStory): string {
  const { run } = story;
  const newest = run.meanwhile[run.meanwhile.length - 1];
  const pages = newest ? ` ${newest.fine} of ${newest.of} pages were as before at ${clock(newest.at)}.` : "";
  const told = story.told_at ? ` At ${clock(story.told_at)} a person is told.` : "";
  const asked = run.asked.length;
  return (
    `No sign since ${clock(run.waiting_since ?? run.last_sign_at)}. ` +
    `Asked ${asked} times since, with no answer.${pages}${told}`
  );
}

/** What a visitor notices: the newest look at the pages. */
export function visitors(story: RunStory): { fine: boolean; head: string; text: string } | null {
  const newest = story.run.meanwhile[story.run.meanwhile.length - 1];
  if (!newest || newest.of === 0) return null;
  const fine = newest.fine === newest.of;
  return {
    fine,
    head: fine ? "Visitors notice nothing:" : "Visitors notice it:",
    text: `${newest.fine} of ${newest.of} pages as before, ${span(newest.at)} ago.`,
  };
}

/** "3:40" for 220 seconds. */
export function length(seconds: number): string {
  const whole = Math.round(seconds);
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}
