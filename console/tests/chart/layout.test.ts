import { describe, expect, test } from "vitest";
import { type Chart, LEFT, layout, TOP } from "../../src/chart/layout";

const chart = (across: number, down: number, path: { row: number; column: number; step: number }[]) =>
  ({
    across: { versions: Array.from({ length: across }, (_, n) => `${n}`) },
    down: { versions: Array.from({ length: down }, (_, n) => `${n}`) },
    path,
  }) as unknown as Chart;

describe("the chart's layout", () => {
  test("a stop stands in the middle of its cell", () => {
    const { stops, cell } = layout(chart(3, 2, [{ row: 1, column: 2, step: 0 }]), 600);
    expect(stops[0]).toEqual({ x: LEFT + 2.5 * cell.width, y: TOP + 1.5 * cell.height, step: 0 });
  });

  test("a step's number stands half way between the stops it joins", () => {
    const path = [
      { row: 0, column: 0, step: 0 },
      { row: 0, column: 2, step: 1 },
    ];
    const { stops, steps } = layout(chart(3, 1, path), 600);
    expect(steps).toHaveLength(1);
    expect(steps[0]?.x).toBe(((stops[0]?.x ?? 0) + (stops[1]?.x ?? 0)) / 2);
  });

  test("it never grows beyond the box it is given", () => {
    for (const across of [200, 346, 600])
      expect(layout(chart(9, 9, []), across).width).toBeLessThanOrEqual(across);
  });

  test("many rows are lower than few, and high enough for a number", () => {
    expect(layout(chart(2, 9, []), 600).cell.height).toBe(41);
    expect(layout(chart(2, 3, []), 600).cell.height).toBe(48);
  });
});
