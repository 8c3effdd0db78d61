/** What a run's page says of a run. No React here. */

import type { RunStory, Schemas, State } from "../../api/client";
import { now } from "../../pieces/now";

type Step = RunStory["steps"][number];

/** What a probe's verdict is drawn as. */
export const VERDICTS: Record<string, State> = {
  "as before": "clear",
  worse: "failed",
  differs: "unknown",
};

/** Whether a step moves several products at once. */
export const isCombined = (step: Step): boolean => step.moves.length > 1;

/** How long something took, or takes by now: "2:07"; "" for what has not begun. */
export function took(
  from: string | null | undefined,
  to: string | null | undefined,
  at = now(),
): string {
  if (!from) return "";
  const seconds = Math.max(0, Math.round(((to ? Date.parse(to) : at) - Date.parse(from)) / 1000));
  return `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}`;
}

type WayOut = Schemas["WayOut"];
type Debt = Schemas["Debt"];

/** What a way out loses, in two words at most: "nothing", "2 orders, 1 page". */
export const lossOf = (way: WayOut): string => way.loses.join(", ") || "nothing";

/** The ways that can be taken now, and those that can't. */
export const apart = (ways: readonly WayOut[]): { open: WayOut[]; shut: WayOut[] } => ({
  open: ways.filter((way) => way.possible),
  shut: ways.filter((way) => !way.possible),
});

/** About how long something takes: "3 min", "under a minute". */
export const takes = (seconds: number): string =>
  seconds < 60 ? "under a minute" : `about ${Math.round(seconds / 60)} min`;

/** One of a kind that an agent counts: "orders" is an "order". */
export const noun = (kind: string): string => kind.replace(/s$/, "");

const MENDS: readonly WayOut["act"][] = ["put-back-step", "put-back-all", "restore"];

/** The act that is proposed: the first, where it mends and loses nothing; whatever else is for a person. */
export function firstWay(ways: readonly WayOut[]): WayOut["act"] | null {
  const first = ways.find((way) => way.possible);
  return first && first.loses.length === 0 && MENDS.includes(first.act) ? first.act : null;
}

/** What is owed, by name: "Automatic updates", "Cache of Lee". */
export function debtName(debt: Debt): string {
  const name = debt.label.replace(/^the /, "");
  return name.charAt(0).toUpperCase() + name.slice(1);
}

/** How it stands, with since when: "was on, off since". */
export function debtStands(debt: Debt): string {
  if (debt.kind === "page") return debt.was ? "was up, down since" : "was down, up since";
  return debt.was ? "was on, off since" : "was off, on since";
}
