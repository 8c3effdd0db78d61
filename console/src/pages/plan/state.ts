/** What a plan's page says of a plan. No React here. */

import type { SitePlan } from "../../api/client";
import { clock, day, plural } from "../../pieces/time";

type Step = SitePlan["plan"]["steps"][number];

/** How a step is drawn on the rail: moves that go together are one combined step. */
export const kindOf = (step: Step): "combined" | "waypoint" | "move" =>
  step.moves.length > 1 ? "combined" : step.waypoint ? "waypoint" : "move";

/** "3 steps, 1 combined · 5 products · reckoned today, 02:10 · draft" */
export function headline(plan: SitePlan): string {
  const steps = plan.plan.steps.length;
  const combined = plan.plan.steps.filter((step) => kindOf(step) === "combined").length;
  const parts = [plural(steps, "step") + (combined ? `, ${combined} combined` : "")];
  parts.push(plural(Object.keys(plan.targets).length, "product"));
  parts.push(`reckoned ${day(plan.made_at)}, ${clock(plan.made_at)}`);
  return `${parts.join(" · ")} · ${plan.state}`;
}
