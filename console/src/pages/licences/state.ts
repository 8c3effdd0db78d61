/** How credentials stand, in words. No React here. */
import type { Schemas } from "../../api/client";
import { plural } from "../../pieces/time";

const SEEN: Record<string, string> = { valid: "seen valid", refused: "seen refused", "not yet": "not seen yet" };

/** A state as it is told: "seen valid", "in grace". */
export const wordOf = (state: string) => SEEN[state] ?? (state === "grace" ? "in grace" : state);

type Site = Pick<Schemas["CredentialSite"], "label" | "state">;

const NAMED = 2;

/** The sites of a row: how many, and by name those where a code is not in place. */
export function atSites(sites: readonly Site[]): string {
  if (sites.length === 0) return "no site runs it";
  const amiss = sites.filter((one) => one.state !== "registered" && one.state !== "by the service");
  const head = plural(sites.length, "site");
  if (amiss.length === 0) return head;
  const named = amiss.slice(0, NAMED).map((one) => `${one.label} ${wordOf(one.state)}`);
  const more = amiss.length > NAMED ? `, ${amiss.length - NAMED} more not in place` : "";
  return `${head}: ${named.join(", ")}${more}`;
}
