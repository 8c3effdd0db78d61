import type { SiteSummary, State } from "../api/client";

/** Something the command box can go to. */
export interface Place {
  to: string;
  label: string;
  state?: State;
}

const ACTS: Place[] = [
  { to: "/", label: "See what wants attention" },
  { to: "/sites", label: "See every site" },
  { to: "/runs", label: "See the runs" },
];
const MOST = 8;

/** The sites and acts that hold every word of a text; sites come as they are, worst first. */
export function find(sites: SiteSummary[], text: string): Place[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (label: string) => words.every((word) => label.toLowerCase().includes(word));
  const places: Place[] = [];
  for (const site of sites) {
    if (!fits(`${site.label} ${site.client} ${site.id} plan`)) continue;
    places.push({ to: `/sites/${site.id}`, label: site.label, state: site.state });
    if (words.includes("plan"))
      places.push({ to: `/sites/${site.id}/plan`, label: `See the plan for ${site.label}` });
  }
  return [...places, ...ACTS.filter((act) => fits(act.label))].slice(0, MOST);
}
