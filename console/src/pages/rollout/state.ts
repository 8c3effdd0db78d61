/** What a rollout says, before it is approved and as it goes. No React here. */
import type { Schemas, State } from "../../api/client";
import { clock, day, plural, reasonOf } from "../../pieces/time";
import { now } from "../../pieces/now";

export type Draft = Schemas["RolloutDraft"];
export type Member = Schemas["DraftMember"];
export type Story = Schemas["RolloutStory"];
export type Going = Schemas["MemberView"];
export type New = Schemas["NewRollout"];
export type Approval = Schemas["ApproveRollout"];

export const WAVES = [
  ["twin", "Twins", "each opens its own site"],
  ["canary", "Canaries", "proposed"],
  ["rest", "The rest", ""],
] as const;

type Placed = { wave: Member["wave"]; turn: number };

/** Waves in their order, those of the rest one by one, each with those who go in it. */
export function wavesOf<T extends Placed>(members: readonly T[]): { key: string; label: string; words: string; gate: string; members: T[] }[] {
  const last = Math.max(1, ...members.filter((one) => one.wave === "rest").map((one) => one.turn));
  return WAVES.flatMap(([wave, label, words]) => {
    const turns = wave === "rest" ? Array.from({ length: last }, (_, n) => n + 1) : [1];
    return turns.map((turn) => ({
      key: wave === "rest" ? `rest-${turn}` : wave,
      label: wave === "rest" && last > 1 ? `The rest, ${turn} of ${last}` : label,
      words,
      gate: wave === "canary" ? "canaries" : wave === "rest" ? `wave-${turn + 1}` : "",
      members: members.filter((one) => one.wave === wave && (wave !== "rest" || one.turn === turn)),
    }));
  }).filter((one) => one.members.length > 0);
}

/** The day so many days from now, as 2026-12-11. */
export function dayAhead(days: number, from = now()): string {
  return new Date(from + days * 86_400_000).toISOString().slice(0, 10);
}

export const EVERYTHING: New = {
  product: null,
  version: null,
  security: false,
  sites: [],
  named: "",
  client: null,
  tag: null,
  but: [],
  beside: [],
  canaries: null,
  quiet_minutes: 1200,
  why: "",
  refresh_twins: false,
  restore_anyway: false,
  patches_until: null,
  waves: 1,
};

const KINDS = ["core", "theme", "plugin", "runtime"] as const;
const MANY: Record<string, string> = { core: "core" };

/** "109 moves on 24 sites", and the same by kind. */
export function totals(draft: Draft): { all: string; kinds: string[] } {
  const moves = Object.values(draft.moves).reduce((sum, n) => sum + n, 0);
  return {
    all: `${plural(moves, "move")} on ${plural(draft.members.length, "site")}`,
    kinds: KINDS.filter((kind) => draft.moves[kind]).map((kind) =>
      plural(draft.moves[kind] ?? 0, kind, MANY[kind] ?? `${kind}s`),
    ),
  };
}

/** The nights of a draft, each told from noon to noon in the reader's zone; null: no place. */
export function nightsOf(members: readonly { starts_at?: string | null }[]): string[] {
  const found = new Set<string>();
  for (const member of members) if (member.starts_at) found.add(nightOf(member.starts_at));
  return [...found].sort();
}

/** The day on which the night of an instant begins, as 2026-11-27. */
export function nightOf(at: string): string {
  const when = new Date(Date.parse(at) - 12 * 3_600_000);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${when.getFullYear()}-${two(when.getMonth() + 1)}-${two(when.getDate())}`;
}

/** Those of a draft who go only while somebody watches. */
export const watched = (draft: Draft) => draft.members.filter((member) => member.watched !== "");

/** How far a draft has come, in words; "" where its times are final. */
export function unfinished(draft: Draft): string {
  if (!draft.current) return "Something changed since. Approving says what, before anything is done.";
  if (draft.improved < 1) return "These times are a first draft. Windbreak is still looking for better ones.";
  return "";
}

/** What is approved: the draft that was shown, some of its sites left out. */
export function approved(
  draft: Draft,
  choice: { patches: string | null; restore: boolean; why: string; without: readonly string[] },
): Approval {
  return {
    ...EVERYTHING,
    draft: draft.id,
    without: [...choice.without],
    patches_until: choice.patches,
    restore_anyway: choice.restore,
    why: choice.why,
  };
}

const STATES: Record<Going["state"], State> = {
  "to be booked": "waiting",
  booked: "ready",
  running: "running",
  done: "clear",
  failed: "failed",
  "left out": "held",
};

/** The state of a site that a member's standing comes nearest to. */
export const kin = (member: Going): State => STATES[member.state];

/** How a wave stands: "3 done, 1 put back". */
export function waveText(members: readonly Going[]): string {
  const counts = new Map<string, number>();
  for (const member of members) counts.set(member.state, (counts.get(member.state) ?? 0) + 1);
  return [...counts].map(([state, count]) => `${count} ${state}`).join(", ");
}

/** Whether a wave has begun: a run of it began or ended. */
export const begun = (members: readonly Going[]) =>
  members.some((member) => member.state === "running" || member.state === "done" || member.state === "failed");

export const underWay = (story: Story) => story.rollout.state === "going" || story.rollout.state === "refreshing";

/** What stopping a rollout leaves and takes: told before it is done. */
export function stopping(story: Story): { stay: number; out: number; run: number } {
  const count = (state: Going["state"]) => story.members.filter((member) => member.state === state).length;
  return { stay: count("done"), out: count("booked") + count("to be booked"), run: count("running") };
}

/** Members on one ground line: those of one night, or those without one. `reason`: why so many of
 * them go then that it is told of all at once; "" where no two have the same. */
export interface Ground {
  key: string;
  label: string;
  members: Going[];
  reason: string;
}

/** A wave's members by the night they go in; then those not booked yet, then those left out. */
export function grounds(members: readonly Going[], from = now()): Ground[] {
  const keyOf = (member: Going) => (member.state === "left out" ? "~out" : member.at ? nightOf(member.at) : "~none");
  const byKey = new Map<string, Going[]>();
  for (const member of [...members].sort((a, b) => (a.at ?? "").localeCompare(b.at ?? ""))) {
    const row = byKey.get(keyOf(member)) ?? [];
    byKey.set(keyOf(member), [...row, member]);
  }
  return [...byKey]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([key, row]) => ({ key, label: GROUNDS[key] ?? nightWords(key, from), members: row, reason: commonest(row.map(reasonFor)) }));
}

const GROUNDS: Record<string, string> = { "~out": "left out", "~none": "not booked yet" };

/** Why a member goes then: what a canary covers, else the reason of its booking; why it does not. */
export function reasonFor(member: Going): string {
  if (member.state === "failed") return "";
  if (member.state === "left out" || member.state === "to be booked") return member.text;
  return member.covers.length ? `Covers ${member.covers.join(", ")}.` : reasonOf(member.why, member.at);
}

/** The text that most have in common; "" where all are different. */
function commonest(texts: readonly string[]): string {
  const counts = new Map<string, number>();
  for (const text of texts) if (text) counts.set(text, (counts.get(text) ?? 0) + 1);
  const [first] = [...counts].filter(([, count]) => count > 1).sort(([, a], [, b]) => b - a);
  return first?.[0] ?? "";
}

/** "Fri 20 to Sat 21 Nov"; "tonight" and "tomorrow" are said. */
export function nightWords(night: string, from = now()): string {
  const noon = Date.parse(`${night}T12:00:00`);
  const [first, second] = [day(new Date(noon)), day(new Date(noon + 86_400_000))];
  const months = [first, second].map((one) => one.split(" ").slice(2).join(" "));
  const span = `${months[0] === months[1] ? first.split(" ").slice(0, 2).join(" ") : first} to ${second}`;
  const said = { [nightOf(new Date(from).toISOString())]: "tonight, ", [nightOf(new Date(from + 86_400_000).toISOString())]: "tomorrow, " };
  return `${said[night] ?? ""}${span}`;
}

type Gate = Story["gates"][number];

/** The sites whose gate wants a person's word. */
export const wantWord = (story: Story) =>
  new Set(story.gates.filter((gate) => gate.state === "wants a word").flatMap((gate) => gate.before));

/** How long it is quiet after a wave: "20 h". */
export const quietHours = (story: Story) => `${Math.round(story.rollout.quiet_minutes / 6) / 10} h`;

const MOST_TICKS = 24;

/** A gate's quiet time as ticks, one an hour up to a day of them, and how many are gone. */
export function ticks(story: Story, gate: Gate, from = now()): { of: number; gone: number } {
  const whole = story.rollout.quiet_minutes;
  const of = Math.min(MOST_TICKS, Math.ceil(whole / 60));
  if (gate.state === "open") return { of, gone: of };
  if (!gate.quiet_since || of === 0) return { of, gone: 0 };
  const minutes = (from - Date.parse(gate.quiet_since)) / 60_000;
  return { of, gone: Math.max(0, Math.min(of, Math.floor((of * minutes) / whole))) };
}

/** When a gate opens or opened, in words. */
export function opening(story: Story, gate: Gate, from = now()): string {
  const when = (at: string | number) => `${day(new Date(at))}, ${clock(new Date(at))}`;
  switch (gate.state) {
    case "open":
      return gate.opens ? `Opened ${when(gate.opens)}.` : "Open.";
    case "quiet":
      return gate.opens ? `Opens ${when(gate.opens)}.` : "Quiet.";
    case "waits":
      return "Shut.";
    case "wants a word": {
      const at = gate.quiet_since ? Date.parse(gate.quiet_since) + story.rollout.quiet_minutes * 60_000 : null;
      return at !== null && at > from ? `Opens ${when(at)}, if you say so.` : "Opens when you say so.";
    }
  }
}

/** What a twin's run does for its own site, by the gate that waits for it; "" where none does. */
export function twinWords(story: Story, member: Going): string {
  const gate = story.gates.find((one) => one.after.includes(member.site) && one.id !== "canaries");
  if (member.wave !== "twin" || !gate) return "";
  switch (gate.state) {
    case "open":
      return "Its own site may go.";
    case "quiet":
      return gate.opens ? `Opens its own site ${clock(gate.opens)}.` : "";
    case "waits":
      return `Opens its own site ${quietHours(story)} later.`;
    case "wants a word":
      return "Its own site waits for your word.";
  }
}
