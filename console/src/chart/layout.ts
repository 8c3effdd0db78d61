/** Where the chart's cells, stops and numbers lie. No React here: only numbers. */

import type { components } from "../api/schema";

export type Chart = components["schemas"]["Chart"];
export type Cell = components["schemas"]["Cell"];

export const LEFT = 66;
export const TOP = 44;

export interface Layout {
  width: number;
  height: number;
  cell: { width: number; height: number };
  stops: { x: number; y: number; step: number }[];
  steps: { x: number; y: number; step: number }[];
}

/** The chart in a box of so many pixels across; cells are never too low to hold a number. */
export function layout(chart: Chart, across: number): Layout {
  const columns = chart.across.versions.length;
  const rows = chart.down.versions.length;
  const cell = {
    width: Math.min(94, Math.floor((across - LEFT - 8) / columns)),
    height: rows > 5 ? 41 : 48,
  };
  const stops = chart.path.map((stop) => ({
    x: LEFT + (stop.column + 0.5) * cell.width,
    y: TOP + (stop.row + 0.5) * cell.height,
    step: stop.step,
  }));
  // A step's number stands half way between the stops it joins.
  const steps = stops.slice(1).map((stop, index) => {
    const before = stops[index] ?? stop;
    return { x: (before.x + stop.x) / 2, y: (before.y + stop.y) / 2, step: stop.step };
  });
  return {
    width: LEFT + columns * cell.width + 8,
    height: TOP + rows * cell.height + 6,
    cell,
    stops,
    steps,
  };
}
