/** What a rollout says, before it is approved and as it goes. No React here. */
import type { Schemas, State } from "../../api/client";
import { plural } from "../../pieces/time";
import { now } from "../../pieces/now";

export type Draft = Schemas["RolloutDraft"];
export type Member = Schemas["DraftMember"];
export type Story = Schemas["RolloutStory"];
export type Going = Schemas["MemberView"];
export type New = Schemas["NewRollout"];

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

/** What is approved when some sites are left out: exactly those that were shown. */
export function approved(draft: Draft, choice: { patches: string | null; restore: boolean; why: string; without: readonly string[] }): New {
  const sites = draft.members.map((member) => member.site).filter((site) => !choice.without.includes(site));
  const canaries = draft.members
    .filter((member) => member.wave === "canary" && sites.includes(member.site))
    .map((member) => member.site);
  return {
    ...draft.asked,
    sites,
    named: draft.where,
    client: null,
    tag: null,
    canaries,
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
