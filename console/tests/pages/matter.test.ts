import { describe, expect, test } from "vitest";
import type { Schemas } from "../../src/api/client";
import { apart, debtName, debtStands, firstWay, lossOf, takes } from "../../src/pages/run/state";

const way = (more: Partial<Schemas["WayOut"]>): Schemas["WayOut"] => ({
  act: "accept",
  label: "Accept as it is",
  text: "",
  loses: [],
  possible: true,
  closes: true,
  seconds: 0,
  lost: [],
  ...more,
});

const debt = (more: Partial<Schemas["Debt"]>): Schemas["Debt"] => ({
  id: 1,
  site: "x",
  run: 1,
  kind: "updates",
  name: "",
  label: "",
  was: true,
  since: "2026-11-24T01:10:00Z",
  tries: 0,
  ...more,
});

describe("a way out", () => {
  test("says what it loses, or that it loses nothing, and about how long it takes", () => {
    expect(lossOf(way({}))).toBe("nothing");
    expect(lossOf(way({ loses: ["2 orders", "1 page"] }))).toBe("2 orders, 1 page");
    expect([takes(12), takes(80), takes(200)]).toEqual(["under a minute", "about 1 min", "about 3 min"]);
  });

  test("stands apart from those that can't be taken now", () => {
    const { open, shut } = apart([way({}), way({ act: "go-on", possible: false })]);
    expect([open.map((one) => one.act), shut.map((one) => one.act)]).toEqual([["accept"], ["go-on"]]);
  });

  test("is proposed where it comes first, mends, can be taken and loses nothing", () => {
    const restore = way({ act: "restore", loses: ["1 order"] });
    const back = way({ act: "put-back-step" });
    expect(firstWay([back, restore, way({})])).toBe("put-back-step");
    expect(firstWay([{ ...back, possible: false }, { ...restore, loses: [] }])).toBe("restore");
    expect(firstWay([restore, back])).toBeNull();
    expect(firstWay([way({ act: "go-on" }), way({}), back])).toBeNull(); // the step is fine
  });
});

describe("a debt", () => {
  test.each([
    [debt({ label: "automatic updates" }), "Automatic updates", "was on, off since"],
    [debt({ kind: "page", label: "the maintenance page", was: false }), "Maintenance page", "was down, up since"],
    [debt({ kind: "cache", label: "the cache of Lee" }), "Cache of Lee", "was on, off since"],
    [debt({ kind: "plugin", label: "Trestle" }), "Trestle", "was on, off since"],
  ])("%# is named with what it was", (owed, name, stands) => {
    expect(debtName(owed)).toBe(name);
    expect(debtStands(owed)).toBe(stands);
  });
});
