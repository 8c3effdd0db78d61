import { describe, expect, test } from "vitest";
import { DENSE_FROM, hostNames, layout, overlap, siteNames, waiting, walked, totals } from "../../src/belt/layout";
import { site } from "../sites";

const SIZE = { width: 880, left: 22, bar: 10, rise: 20 };

describe("the belt's layout", () => {
  test("hosts and sites stand in fixed order, whatever order they come in", () => {
    const sites = [site("b", { host: "pier" }), site("c"), site("a"), site("x", { host: null })];
    const order = (some: typeof sites) => layout(some, SIZE).bars.map((bar) => bar.site.id);
    expect(order(sites)).toEqual(["a", "c", "b", "x"]);
    expect(order([...sites].reverse())).toEqual(order(sites));
  });

  test("a twin stands straight after its site, half as wide", () => {
    const { bars } = layout([site("b"), site("a-twin", { twin_of: "a" }), site("a")], SIZE);
    expect(bars.map((bar) => bar.site.id)).toEqual(["a", "a-twin", "b"]);
    expect(bars[1]?.width).toBe((bars[0]?.width ?? 0) / 2);
  });

  test("a twin whose site is not shown stands by itself", () => {
    const { bars } = layout([site("a-twin", { twin_of: "a" })], SIZE);
    expect(bars.map((bar) => bar.width)).toEqual([10]);
  });

  test("bars grow with the moves that wait, and nothing waiting has no height", () => {
    const heights = [0, 1, 4, 16].map(
      (n) => layout([site("a", { moves: { core: n } })], SIZE).bars[0]?.height ?? -1,
    );
    expect(heights[0]).toBe(0);
    expect([...heights].sort((a, b) => a - b)).toEqual(heights);
    expect(waiting(site("a", { moves: { core: 1, plugin: 2 } }))).toBe(3);
  });

  test("hundreds of sites fill the width and none stands outside it", () => {
    const many = Array.from({ length: 500 }, (_, n) => site(`s${n}`, { host: `h${n % 7}` }));
    const { bars, dense } = layout(many, SIZE);
    expect(dense).toBe(true);
    expect(bars).toHaveLength(500);
    for (const bar of bars) {
      expect(bar.x).toBeGreaterThanOrEqual(SIZE.left);
      expect(bar.x).toBeLessThanOrEqual(SIZE.width);
    }
    expect(layout(many.slice(0, DENSE_FROM - 1), SIZE).dense).toBe(false);
  });
});

describe("walking the belt", () => {
  test("arrows go one on and stop at both ends", () => {
    expect(walked("ArrowRight", 0, 3)).toBe(1);
    expect(walked("ArrowRight", 2, 3)).toBe(2);
    expect(walked("ArrowLeft", 1, 3)).toBe(0);
    expect(walked("ArrowLeft", 0, 3)).toBe(0);
  });

  test("Home and End go to the first and the last", () => {
    expect(walked("Home", 2, 3)).toBe(0);
    expect(walked("End", 0, 3)).toBe(2);
  });

  test("other keys do not walk", () => {
    for (const key of ["Enter", "a", "Tab", "ArrowUp"]) expect(walked(key, 1, 3)).toBeUndefined();
  });
});

describe("names on the belt", () => {
  const width = 346; // what a page 390 pixels wide leaves
  const wrong = Array.from({ length: 9 }, (_, n) =>
    site(`site-number-${n}`, { state: "failed", moves: { core: n }, host: `host-${n % 4}` }),
  );
  const { bars, grounds } = layout(wrong, { ...SIZE, width });

  test("no two names of sites run into each other, and none leaves the belt", () => {
    const signs = siteNames(bars, { width, base: 120, reach: 48, top: 20 });
    expect(signs.length).toBeGreaterThan(0);
    for (const a of signs) {
      for (const b of signs) if (a !== b) expect(overlap(a, b)).toBe(false);
      expect(a.x - (a.text.length * 6.2) / 2).toBeGreaterThanOrEqual(0);
      expect(a.x + (a.text.length * 6.2) / 2).toBeLessThanOrEqual(width);
    }
  });

  test("only sites where something is wrong are named, a twin by its site's name", () => {
    const sites = [
      site("a", { state: "exposed" }),
      site("a-twin", { state: "exposed", twin_of: "a" }),
      site("b", { state: "clear" }),
    ];
    const placed = layout(sites, SIZE).bars;
    const signs = siteNames(placed, { width: 880, base: 120, reach: 48, top: 20 });
    expect(signs.map((sign) => sign.text)).toEqual(["A"]);
  });

  test("no two names of hosts run into each other", () => {
    const signs = hostNames(grounds, width, 138);
    expect(signs.length).toBeGreaterThan(0);
    for (const a of signs) for (const b of signs) if (a !== b) expect(overlap(a, b)).toBe(false);
  });

  test("a host's name that would be cut off ends where its ground ends", () => {
    const ground = { host: "mole", name: "Mole at the far end", count: 2, from: 300, to: 340 };
    const [sign] = hostNames([ground], width, 138);
    expect(sign).toMatchObject({ anchor: "end", x: 340, text: "Mole at the far end · 2" });
  });
});

describe("the moves that wait", () => {
  const moves = { core: 1, plugin: 2 };

  test("are those of sites that can be reached; the others are told apart", () => {
    const told = totals([
      site("a", { link: "linked", moves, held: 1 }),
      site("b", { link: "linked", moves: {} }),
      site("c", { link: "silent", moves, held: 1 }),
      site("d", { link: "linked", moves, fault: "a fault of ours" }),
    ]);
    expect([told.moves, told.sites, told.of("plugin"), told.held]).toEqual([3, 1, 2, 1]);
    expect([told.beyondMoves, told.beyondSites]).toEqual([6, 2]);
  });
});
