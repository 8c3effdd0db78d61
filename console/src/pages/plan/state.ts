/** What a plan's page says of a plan. No React here. */

import type { SitePlan } from "../../api/client";
import { clock, day, plural } from "../../pieces/time";

type Step = SitePlan["plan"]["steps"][number];

/** How a step is drawn on the rail: moves that go together are one combined step. */
export const kindOf = (step: Step): "combined" | "waypoint" | "move" =>
  step.moves.length > 1 ? "combined" : step.waypoint ? "waypoint" : "move";

/** Whether a plan has something leave the site; such a plan moves nothing. */
export const takesAway = (plan: SitePlan) => plan.plan.steps.some((step) => step.moves.some((move) => !move.to));

/** "3 steps, 1 combined · 5 products · reckoned today, 02:10 · draft" */
export function headline(plan: SitePlan): string {
  const steps = plan.plan.steps.length;
  const combined = plan.plan.steps.filter((step) => kindOf(step) === "combined").length;
  const parts = [plural(steps, "step") + (combined ? `, ${combined} combined` : "")];
  const leaving = takesAway(plan);
  parts.push(leaving ? `${plural(steps, "product")} to leave` : plural(Object.keys(plan.targets).length, "product"));
  parts.push(`reckoned ${day(plan.made_at)}, ${clock(plan.made_at)}`);
  return `${parts.join(" · ")} · ${plan.state}`;
}

type Brought = NonNullable<SitePlan["brings"]>[number];

const BY_RUN: Record<string, string> = {
  migrate: "The run follows its migration to the end",
  regenerate: "The run has it made anew",
  register: "The run enters the code",
  restart: "The run restarts it",
};

/** What a step brings with it: for the run, for a person, or to be read. */
export function broughtText({ by, kind, text, blocking, due_days: due }: Brought): string {
  const said = text.replace(/\.$/, "");
  if (by === "run") return `${BY_RUN[kind] ?? "The run does it"}: ${said}.`;
  if (by === "nobody") return `To read: ${said}.`;
  if (blocking) return `Errand, and the run waits for it: ${said}.`;
  return `Errand${due ? ` within ${plural(due, "day")}` : ""}: ${said}.`;
}
