import type { RunStory, Schemas, State } from "../../api/client";
import { clock, day } from "../../pieces/time";
import { RUN_STATES } from "../runs/state";

export type Line = Schemas["LedgerLine"];

/** What the ledger is narrowed by; it lives in the address. */
export interface Filter {
  words: string;
  since: string;
  by: string;
  client: string;
  part: "" | "decisions" | "acts";
  result: "" | "put back or failed";
  subject: string;
}

export const PARTS = { decisions: "decisions of people", acts: "acts by itself" } as const;
const DAY = 86_400_000;
const NIGHT = { from: 20, to: 7 }; // hours, in the reader's own zone

export function readFilter(params: URLSearchParams): Filter {
  const part = params.get("part");
  return {
    words: params.get("words") ?? "",
    since: params.get("since") ?? "",
    by: params.get("by") ?? "",
    client: params.get("client") ?? "",
    part: part === "decisions" || part === "acts" ? part : "",
    result: params.get("result") ? "put back or failed" : "",
    subject: params.get("subject") ?? "",
  };
}

export function writeFilter(filter: Filter): URLSearchParams {
  return new URLSearchParams(Object.entries(filter).filter(([, value]) => value));
}

/** The days that one can begin at: today, and some days ago. */
export function sinces(now: number): { value: string; label: string }[] {
  const back = (days: number) => {
    const when = new Date(now - days * DAY);
    return `${when.getFullYear()}-${two(when.getMonth() + 1)}-${two(when.getDate())}`;
  };
  return [
    { value: back(0), label: "today" },
    { value: back(1), label: "yesterday" },
    { value: back(7), label: "a week ago" },
    { value: back(31), label: "a month ago" },
    { value: back(366), label: "a year ago" },
  ];
}

const two = (n: number) => String(n).padStart(2, "0");

/** What the service is asked for. */
export function asQuery(filter: Filter) {
  return {
    ...(filter.words && { words: filter.words }),
    ...(filter.since && { since: new Date(`${filter.since}T00:00:00`).toISOString() }),
    ...(filter.by && { person: filter.by }),
    ...(filter.client && { client: filter.client }),
    ...(filter.part && { part: filter.part }),
    ...(filter.result && { wrong: true }),
    ...(filter.subject && { subject: filter.subject }),
  };
}

export interface Group {
  title: string;
  aside: string;
  lines: Line[];
}

/** Lines by nights and days, newest first; a night is told under both its dates. */
export function groups(lines: Line[]): Group[] {
  const found: Group[] = [];
  for (const line of lines) {
    const title = titleOf(new Date(line.at));
    const last = found.at(-1);
    if (last?.title === title) last.lines.push(line);
    else found.push({ title, aside: "", lines: [line] });
  }
  for (const group of found) group.aside = asideOf(group.lines);
  return found;
}

function titleOf(at: Date): string {
  const hour = at.getHours();
  if (hour >= NIGHT.to && hour < NIGHT.from) return `${day(at)}, by day`;
  const evening = new Date(at.getTime() - (hour < NIGHT.to ? DAY : 0));
  return `Night of ${day(evening).replace(/ \w+$/, "")} to ${day(new Date(evening.getTime() + DAY))}`;
}

function asideOf(lines: Line[]): string {
  const ends = lines.filter((line) => line.came);
  const wrong = ends.filter((line) => line.came !== "done" && line.came !== "stopped").length;
  const runs = ends.length && `${ends.length} ${ends.length === 1 ? "run" : "runs"}`;
  return [lines.length, runs && (wrong ? `${runs}, ${wrong} of them not well` : runs)]
    .filter(Boolean)
    .join(" · ");
}

/** A line in a few words, beside the belt: "run 2 on Whinchat Radio: put back, 02:19". */
export const captionOf = (line: Line) => `${line.what}, ${clock(line.at)}`;

/** How a line's result is shown: a state with its word, or one word. */
export function resultOf(line: Line, ours: string): { state: State | null; word: string } {
  if (line.came) return { state: RUN_STATES[line.came], word: line.came };
  return { state: null, word: line.who === ours ? "" : "decided" };
}

/** What a run came to, always in this order; what there is nothing to say of is left out. */
export function unfolded(line: Line, story: RunStory): { term: string; text: string }[] {
  const done = story.steps.filter((step) => step.state === "done");
  const failed = story.steps.find((step) => step.state === "failed" || step.state === "put back");
  const snapshot = story.journal.find((e) => e.kind === "snapshot" && e.state === "done");
  const back = story.steps.flatMap((step) => step.happened).filter((one) => one.kind === "back");
  const left = story.steps.filter((step) => step.state === "to come");
  const rows = [
    { term: "may go because", text: line.why && `“${line.why}”` },
    { term: "before", text: snapshot ? `Snapshot ${clock(snapshot.at)}, complete.` : "" },
    { term: done.length === 1 ? "step" : "steps", text: done.map((step) => step.title).join("; ") },
    { term: "seen", text: seenText(story) },
    {
      term: "put back",
      text: failed ? [failed.title, ...back.map((one) => one.text)].join("; ") : "",
    },
    { term: "left undone", text: left.map((step) => step.title).join("; ") },
    { term: "so", text: line.result },
  ];
  return rows.filter((row) => row.text);
}

/** What was seen to be worse after a step, or that nothing was. */
function seenText(story: RunStory): string {
  const broken = story.steps.flatMap((step) => step.happened).find((one) => one.kind === "broken");
  if (broken) return broken.text;
  return story.seen.length ? `as before on ${story.seen.length} looks` : "";
}
