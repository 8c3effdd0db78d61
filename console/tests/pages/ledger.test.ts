import { describe, expect, test } from "vitest";
import type { RunStory } from "../../src/api/client";
import { monthName, months } from "../../src/pages/ledger/months";
import { asQuery, groups, type Line, readFilter, resultOf, unfolded, writeFilter } from "../../src/pages/ledger/state";

let id = 100;
const line = (at: string, more: Partial<Line> = {}): Line => ({
  id: id--,
  at,
  who: "Rhona Vale",
  what: "a hold",
  subject: "harbour",
  why: "",
  result: "",
  run: null,
  came: null,
  label: "Harbour",
  about: "site",
  ...more,
});
const read = (query: string) => readFilter(new URLSearchParams(query));

describe("what the ledger is narrowed by", () => {
  test("lives in the address, and only what narrows", () => {
    expect(writeFilter(read("words=kelp&part=acts&result=x")).toString()).toBe(
      "words=kelp&part=acts&result=put+back+or+failed",
    );
    expect(writeFilter(read("part=all")).toString()).toBe("");
  });

  test("is asked of the service in its own words", () => {
    expect(asQuery(read(""))).toEqual({});
    expect(asQuery(read("by=Owen&client=Tarnsey&part=decisions&result=1&subject=x"))).toEqual({
      person: "Owen",
      client: "Tarnsey",
      part: "decisions",
      wrong: true,
      subject: "x",
    });
    expect(new Date(asQuery(read("since=2026-11-23")).since!).getHours()).toBe(0);
  });
});

describe("groups", () => {
  test("a night stands under both its dates, whichever side of midnight", () => {
    const told = groups([
      line("2026-11-24T09:00:00"),
      line("2026-11-24T06:59:00"),
      line("2026-11-24T00:10:00", { came: "put back" }),
      line("2026-11-23T23:50:00", { came: "done" }),
      line("2026-11-23T19:59:00"),
    ]);
    expect(told.map((group) => [group.title.replaceAll(" 2026", ""), group.lines.length])).toEqual([
      ["Tue 24 Nov, by day", 1],
      ["Night of Mon 23 to Tue 24 Nov", 3],
      ["Mon 23 Nov, by day", 1],
    ]);
    expect(told[1]!.aside).toBe("3 · 2 runs, 1 of them not well");
    expect(told[0]!.aside).toBe("1");
  });

  test("nothing makes no group", () => expect(groups([])).toEqual([]));
});

describe("a line's result", () => {
  test("is what its run came to, else whether somebody decided", () => {
    expect(resultOf(line("2026-11-24T09:00:00", { came: "restored" }), "Windbreak")).toEqual({
      state: "failed",
      word: "restored",
    });
    expect(resultOf(line("2026-11-24T09:00:00"), "Windbreak").word).toBe("decided");
    expect(resultOf(line("2026-11-24T09:00:00", { who: "Windbreak" }), "Windbreak").word).toBe("");
  });
});

describe("a run unfolded", () => {
  const step = (number: number, state: string, happened: object[] = []) => ({
    number,
    title: `Step ${number}`,
    state,
    happened,
  });
  const story = (steps: object[]) =>
    ({
      steps,
      seen: [{}, {}],
      journal: [{ kind: "snapshot", act: "snapshot", state: "done", at: "2026-11-24T01:58:00" }],
    }) as unknown as RunStory;

  test("is always told in one order, and says nothing of what was not", () => {
    const end = line("2026-11-24T02:23:00", { why: "minor", result: "it was put back" });
    const told = unfolded(
      end,
      story([
        step(1, "done"),
        step(2, "put back", [
          { kind: "broken", text: "editor opens empty" },
          { kind: "back", text: "Trestle back to 5.0" },
        ]),
        step(3, "to come"),
      ]),
    );
    expect(told.map((row) => row.term)).toEqual([
      "may go because",
      "before",
      "step",
      "seen",
      "put back",
      "left undone",
      "so",
    ]);
    expect(told.map((row) => row.text).slice(3, 6)).toEqual([
      "editor opens empty",
      "Step 2; Trestle back to 5.0",
      "Step 3",
    ]);
    expect(unfolded(line("2026-11-24T02:23:00"), story([step(1, "done"), step(2, "done")]))).toEqual([
      { term: "before", text: "Snapshot 01:58, complete." },
      { term: "steps", text: "Step 1; Step 2" },
      { term: "seen", text: "as before on 2 looks" },
    ]);
  });
});

describe("months", () => {
  const now = new Date(2026, 1, 3).getTime();
  test("go from now back to the first line, over a new year", () => {
    expect(months("2025-12-30T10:00:00Z", now)).toEqual(["2026-02", "2026-01", "2025-12"]);
    expect(months(null, now)).toEqual(["2026-02"]);
    expect(monthName("2025-12")).toBe("December 2025");
  });
});
