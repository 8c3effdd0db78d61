/** Sites that were picked to do something for. No React here. */
import type { SiteSummary } from "../../api/client";
import { totals } from "../../belt/layout";
import { plural } from "../../pieces/time";

const NAMED = 4;

/** Who was picked, and how many moves wait there: "Ness Ferries, Slipway and 2 more. 14 moves wait there." */
export function pickedText(sites: readonly SiteSummary[]): string {
  const labels = sites.map((site) => site.label);
  const named = labels.slice(0, NAMED).join(", ");
  const more = labels.length > NAMED ? ` and ${labels.length - NAMED} more` : "";
  const { moves } = totals([...sites]);
  return `${named}${more}. ${moves ? `${plural(moves, "move")} ${moves === 1 ? "waits" : "wait"} there.` : "Nothing waits there."}`;
}

/** The picks after one site was clicked: it is in, or out again. */
export function toggled(picks: ReadonlySet<string>, id: string): Set<string> {
  const after = new Set(picks);
  if (!after.delete(id)) after.add(id);
  return after;
}

/** The picks after the box of all was clicked: all that are shown, or none of them where all were. */
export function toggledAll(picks: ReadonlySet<string>, shown: readonly string[]): Set<string> {
  const after = new Set(picks);
  const every = shown.every((id) => picks.has(id));
  for (const id of shown) every ? after.delete(id) : after.add(id);
  return after;
}
