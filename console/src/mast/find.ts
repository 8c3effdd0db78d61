import type { Schemas, SiteSummary, State } from "../api/client";

/** Something the command box can go to. */
export interface Place {
  to: string;
  label: string;
  state?: State;
}

const ACTS: Place[] = [
  { to: "/", label: "See what wants attention" },
  { to: "/sites", label: "See every site" },
  { to: "/products", label: "See every product" },
  { to: "/licences", label: "See licences and feeds" },
  { to: "/calendar", label: "See the nights" },
  { to: "/runs", label: "See the runs" },
];
const MOST = 8;

/** Sites, products and acts that hold every word of a text; each as they come, worst first. */
export function find(sites: SiteSummary[], products: Schemas["ProductRow"][], text: string): Place[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (label: string) => words.every((word) => label.toLowerCase().includes(word));
  const places: Place[] = [];
  for (const site of sites) {
    if (!fits(`${site.label} ${site.client} ${site.id} plan`)) continue;
    places.push({ to: `/sites/${site.id}`, label: site.label, state: site.state });
    if (words.includes("plan"))
      places.push({ to: `/sites/${site.id}/plan`, label: `See the plan for ${site.label}` });
  }
  for (const row of products) {
    if (!fits(`${row.product.name} ${row.product.id} ${row.product.maker}`)) continue;
    places.push({ to: `/products/${row.product.id}`, label: row.product.name, state: row.state });
  }
  return [...places, ...ACTS.filter((act) => fits(act.label))].slice(0, MOST);
}
