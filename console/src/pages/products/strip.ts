import type { Schemas } from "../../api/client";

export type Use = Schemas["VersionUse"];

export interface Dot {
  x: number;
  y: number;
  kind: "site" | "newest" | "empty" | "exposed";
}
export interface Strip {
  dots: Dot[];
  lines: { x1: number; x2: number; newest: boolean }[];
  labels: { x: number; text: string }[];
}

const COLUMN = 6.2;
const HIGH = 3;
const GAP = 9;
const MOST_COLUMNS = 8;
const BASE = 18.2;

/** Versions in use from oldest to newest, the newest at the right edge, one dot a site, three high. */
export function strip(uses: Use[], newest: string | null, width: number): Strip {
  const found: Strip = { dots: [], lines: [], labels: [] };
  let right = width - 4;
  for (const use of [...uses].reverse()) {
    const sites = use.sites.length;
    const columns = Math.max(1, Math.min(MOST_COLUMNS, Math.ceil(sites / HIGH)));
    const left = right - (columns - 1) * COLUMN;
    if (left < 34) {
      found.labels.push({ x: Math.max(30, right), text: `${use.version}…` });
      return found;
    }
    const isNewest = use.version === newest;
    if (sites === 0) found.dots.push({ x: left, y: BASE, kind: "empty" });
    for (let n = 0; n < Math.min(sites, columns * HIGH); n++) {
      const kind = n < use.exposed ? "exposed" : isNewest ? "newest" : "site";
      found.dots.push({ x: left + Math.floor(n / HIGH) * COLUMN, y: BASE - (n % HIGH) * 6.2, kind });
    }
    found.lines.push({ x1: left - 3, x2: right + 3, newest: isNewest });
    right = left - COLUMN - GAP;
  }
  const oldest = uses[0];
  if (oldest) found.labels.push({ x: right + 6, text: oldest.version });
  return found;
}

export const told = (uses: Use[]) => uses.map((u) => `${u.sites.length} on ${u.version}`).join(", ");
