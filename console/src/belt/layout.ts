import type { SiteSummary, State } from "../api/client";

/** One bar of the belt, in its own coordinates: x of its middle, its width and its height. */
export interface Bar {
  site: SiteSummary;
  moves: number;
  state: State;
  x: number;
  width: number;
  height: number;
}

export interface Ground {
  host: string;
  name: string;
  count: number;
  from: number;
  to: number;
}

export interface BeltLayout {
  bars: Bar[];
  grounds: Ground[];
  dense: boolean;
}

/** From so many sites on, bars have no shapes of their own and fill the width. */
export const DENSE_FROM = 150;
const WIDEST_PLACE = 40;

export const waiting = (site: SiteSummary) =>
  Object.values(site.moves).reduce((sum, n) => sum + n, 0);

/** Hosts in fixed order, sites in fixed order, a twin half as wide straight after its site. */
export function layout(
  sites: SiteSummary[],
  size: { width: number; left: number; bar: number; rise: number },
): BeltLayout {
  const hosts = [...new Set(sites.map((s) => s.host ?? "elsewhere"))].sort((a, b) =>
    a === "elsewhere" ? 1 : b === "elsewhere" ? -1 : a.localeCompare(b),
  );
  const ids = new Set(sites.map((s) => s.id));
  const isTwin = (s: SiteSummary) => s.twin_of !== null && ids.has(s.twin_of);
  const leads = sites.filter((s) => !isTwin(s)).sort((a, b) => a.id.localeCompare(b.id));
  const dense = sites.length >= DENSE_FROM;
  const twins = sites.length - leads.length;
  const places = leads.length + twins * (dense ? 1 : 0.5) + Math.max(0, hosts.length - 1);
  const place = Math.min(WIDEST_PLACE, (size.width - size.left) / Math.max(1, places));
  const width = dense ? place * 0.6 : Math.min(size.bar, place * 0.6);
  const bars: Bar[] = [];
  const grounds: Ground[] = [];
  let at = size.left;
  for (const host of hosts) {
    const from = at;
    let count = 0;
    for (const site of leads.filter((s) => (s.host ?? "elsewhere") === host)) {
      bars.push(bar(site, at + place / 2, width, size.rise));
      at += place;
      count += 1;
      for (const twin of sites.filter((s) => s.twin_of === site.id)) {
        const half = dense ? place : place / 2;
        const shift = dense ? half / 2 : Math.min(0, size.bar * 1.1 - place / 2);
        bars.push(bar(twin, at + shift, dense ? width : width / 2, size.rise));
        at += half;
        count += 1;
      }
    }
    const name = leads.find((s) => s.host === host)?.host_name ?? host;
    grounds.push({ host, name, count, from, to: at });
    at += place;
  }
  return { bars, grounds, dense };
}

function bar(site: SiteSummary, x: number, width: number, rise: number): Bar {
  const moves = waiting(site);
  const height = moves ? 7 + rise * Math.log2(1 + moves) : 0;
  return { site, moves, state: site.state, x, width, height };
}
