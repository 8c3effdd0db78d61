import type { SiteSummary, State } from "../api/client";

/** A tree: x of its middle, its width, and its height in the moves that it stands for. */
export interface Standing {
  state: State;
  moves: number;
  x: number;
  width: number;
  height: number;
  progress?: number | null;
}

/** One bar of the belt, in its own coordinates. */
export interface Bar extends Standing {
  site: SiteSummary;
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

/** The moves that wait on some sites; those that can't be reached are told apart. */
export function totals(sites: readonly SiteSummary[]) {
  const here = sites.filter((site) => site.link === "linked" && !site.fault);
  const beyond = sites.filter((site) => !here.includes(site) && waiting(site) > 0);
  return {
    moves: here.reduce((sum, site) => sum + waiting(site), 0),
    sites: here.filter((site) => waiting(site) > 0).length,
    of: (kind: string) => here.reduce((sum, site) => sum + (site.moves[kind] ?? 0), 0),
    held: here.reduce((sum, site) => sum + site.held, 0),
    beyondMoves: beyond.reduce((sum, site) => sum + waiting(site), 0),
    beyondSites: beyond.length,
  };
}

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

/** Where the belt's walker is after a key; undefined for a key that does not walk. -1: nowhere. */
export function walked(key: string, at: number, bars: number): number | undefined {
  const last = bars - 1;
  const to = { ArrowRight: at + 1, ArrowLeft: at - 1, Home: 0, End: last }[key];
  return to === undefined ? undefined : Math.min(last, Math.max(0, to));
}

/** A text on the belt: where it stands, and which side of it is at x. */
export interface Sign {
  x: number;
  y: number;
  text: string;
  anchor: "start" | "middle" | "end";
}

const LETTER = 6.2; // pixels, on the wide side for the belt's text
const LINE = 14;
const MOST_NAMES = 6;

const left = (sign: Sign) =>
  sign.x - { start: 0, middle: 0.5, end: 1 }[sign.anchor] * LETTER * sign.text.length;

/** Whether two texts would run into each other. */
export function overlap(a: Sign, b: Sign): boolean {
  if (Math.abs(a.y - b.y) >= LINE) return false;
  const [first, second] = left(a) <= left(b) ? [a, b] : [b, a];
  return left(first) + LETTER * (first.text.length + 1) > left(second);
}

/** The hosts' names under their ground; one that has no room is left to its bars. */
export function hostNames(grounds: Ground[], width: number, y: number): Sign[] {
  const signs: Sign[] = [];
  for (const ground of grounds) {
    const text = `${ground.name} · ${ground.count}`;
    // A name that would be cut off ends where its ground ends.
    const out = ground.from + LETTER * text.length > width;
    const sign: Sign = out
      ? { x: Math.min(ground.to, width), y, text, anchor: "end" }
      : { x: ground.from, y, text, anchor: "start" };
    if (left(sign) >= 0 && !signs.some((other) => overlap(other, sign))) signs.push(sign);
  }
  return signs;
}

/** The names of sites where something is wrong, worst first as far as there is room; each stands
 * clear of its own mark and of the bars beside it. A twin goes by its site's name. */
export function siteNames(
  bars: Bar[],
  size: { width: number; base: number; reach: number; top: number },
): Sign[] {
  const signs: Sign[] = [];
  const wrong = bars.filter((bar) => bar.state === "exposed" || bar.state === "failed");
  for (const bar of wrong.filter((bar) => !bar.site.twin_of).slice(0, MOST_NAMES)) {
    const text = bar.site.label;
    const half = (LETTER * text.length) / 2;
    const x = Math.max(half, Math.min(size.width - half, bar.x));
    const near = bars.filter((other) => Math.abs(other.x - x) < Math.max(size.reach, half));
    const clear = size.base - Math.max(7, ...near.map((other) => other.height)) - 18;
    const rows = [clear, clear - LINE, clear - 2 * LINE].map((y) => Math.max(size.top, y));
    const sign = rows
      .map((y): Sign => ({ x, y, text, anchor: "middle" }))
      .find((one) => !signs.some((other) => overlap(other, one)));
    if (sign && half * 2 <= size.width) signs.push(sign);
  }
  return signs;
}

/** How high a bar stands for its moves, in pixels. */
export const heightOf = (moves: number, rise: number) => 7 + rise * Math.log2(1 + moves);

function bar(site: SiteSummary, x: number, width: number, rise: number): Bar {
  const moves = waiting(site);
  const height = moves ? heightOf(moves, rise) : 0;
  return { site, moves, state: site.state, progress: site.progress, x, width, height };
}
