import { describe, expect, test } from "vitest";
import type { SitePlan } from "../../src/api/client";
import { headline, kindOf } from "../../src/pages/plan/state";
import { strip, type Use } from "../../src/pages/products/strip";
import { isCombined, took, VERDICTS } from "../../src/pages/run/state";
import { RUN_STATES } from "../../src/pages/runs/state";

type Step = SitePlan["plan"]["steps"][number];
const move = { product: "plugin/a", from: "1", to: "2", by: null };
const step = (count: number, waypoint = false) =>
  ({ moves: Array.from({ length: count }, () => move), waypoint, why: "" }) as unknown as Step;

describe("a plan", () => {
  test("moves that go together are one combined step, a stop on the way a waypoint", () => {
    expect([step(1), step(1, true), step(2), step(2, true)].map(kindOf)).toEqual([
      "move",
      "waypoint",
      "combined",
      "combined",
    ]);
  });

  test("its headline counts steps, combined ones and products", () => {
    const plan = {
      plan: { steps: [step(1), step(2)] },
      targets: { a: "2", b: "2", c: "2" },
      made_at: "2026-11-24T01:10:00Z",
      state: "draft",
    } as unknown as SitePlan;
    expect(headline(plan)).toMatch(/^2 steps, 1 combined · 3 products · reckoned Tue 24 Nov.* · draft$/);
  });
});

describe("a run", () => {
  test("how long a step took, and how long it takes by now", () => {
    const from = "2026-11-24T01:00:00Z";
    expect(took(from, "2026-11-24T01:02:07Z")).toBe("2:07");
    expect(took(from, null, Date.parse("2026-11-24T01:00:09Z"))).toBe("0:09");
    expect(took(null, null)).toBe("");
    expect(took("2026-11-24T01:00:09Z", from)).toBe("0:00"); // clocks differ
  });

  test("a step is combined by its moves, whatever its title says", () => {
    const titled = { title: "Made with care 1 → 2", moves: [{ name: "a", start: "1", end: "2" }] };
    expect(isCombined(titled as never)).toBe(false);
  });

  test("every way to end has a state of its own word", () => {
    expect(RUN_STATES["put back"]).toBe("failed");
    expect(RUN_STATES.alarm).toBe("exposed");
    expect(VERDICTS["as before"]).toBe("clear");
    expect(VERDICTS.worse).toBe("failed");
  });
});

describe("versions in use as a strip", () => {
  const use = (version: string, sites: number, exposed = 0): Use =>
    ({ version, since: null, sites: Array.from({ length: sites }, (_, n) => `s${n}`), exposed, twins: 0 });

  test("one dot a site, the newest rightmost, who is exposed in another kind", () => {
    const { dots } = strip([use("1.0", 2, 1), use("2.0", 1)], "2.0", 190);
    expect(dots).toHaveLength(3);
    expect(dots.filter((dot) => dot.kind === "exposed")).toHaveLength(1);
    const newest = dots.find((dot) => dot.kind === "newest");
    expect(Math.max(...dots.map((dot) => dot.x))).toBe(newest?.x);
  });

  test("what has no room is told of, never left out silently", () => {
    const many = Array.from({ length: 30 }, (_, n) => use(`${n}.0`, 3));
    const { labels, dots } = strip(many, "29.0", 190);
    expect(labels.at(-1)?.text).toMatch(/…$/);
    for (const dot of dots) expect(dot.x).toBeGreaterThanOrEqual(0);
  });
});
