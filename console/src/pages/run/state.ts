/** What a run's page says of a run. No React here. */

import type { RunStory, State } from "../../api/client";

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
  now = Date.now(),
): string {
  if (!from) return "";
  const seconds = Math.max(0, Math.round(((to ? Date.parse(to) : now) - Date.parse(from)) / 1000));
  return `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}`;
}
