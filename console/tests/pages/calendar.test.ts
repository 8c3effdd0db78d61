import { describe, expect, it } from "vitest";
import { drawn, hoursOf, keyOf, MOST_ROWS, type Night, type Nights, shortened, stepped, stripOf } from "../../src/pages/calendar/layout";
import { byNight, look, moved, spoken, tally, title, unfinished } from "../../src/pages/calendar/state";

const DAY = 86_400_000;
const NOON = "2026-11-27T12:00:00Z";

function night(site: string, at: string, more: Partial<Night> = {}): Night {
  const ends = new Date(Date.parse(at) + 20 * 60_000).toISOString();
  return {
    site,
    label: site,
    host: "mole",
    twin: false,
    state: "approved",
    starts_at: at,
    ends_at: ends,
    back_until: ends,
    moves: 3,
    why: "",
    reckoned: "",
    plan: 1,
    booking: 1,
    run: null,
    rollout: null,
    wave: null,
    pinned: false,
    due: null,
    due_for: "",
    watched: "",
    ...more,
  };
}

function nights(bookings: Night[], more: Partial<Nights> = {}): Nights {
  const opened = [0, 1, 2, 3, 4, 5, 6].map((n) => ({
    host: "mole",
    start: new Date(Date.parse(NOON) + n * DAY + 13 * 3_600_000).toISOString(),
    end: new Date(Date.parse(NOON) + n * DAY + 17 * 3_600_000).toISOString(),
  }));
  return {
    at: "2026-11-28T02:00:00Z",
    start: NOON,
    end: new Date(Date.parse(NOON) + 7 * DAY).toISOString(),
    hosts: [{ id: "mole", name: "Mole", at_once: 4, sites: 9 }],
    bookings,
    opened,
    frozen: [],
    gates: [],
    left_out: [],
    stays_out: [],
    clear: 0,
    booked: bookings.length,
    unbooked: 0,
    proposed: true,
    proposed_at: NOON,
    final: true,
    ...more,
  };
}

const at = (days: number, hour: string) => new Date(Date.parse(`2026-11-28T${hour}:00Z`) + days * DAY).toISOString();

describe("what could be booked", () => {
  it("says that it is being worked out, and as of when it is shown", () => {
    expect(unfinished(nights([]))).toBe("");
    expect(unfinished(nights([], { final: false }))).toMatch(/^Updating, as of \d\d:\d\d$/);
    expect(unfinished(nights([], { final: false, proposed_at: null }))).toBe("Working it out…");
  });
});

describe("the nights laid out", () => {
  it("draws only the hours in which anything can be done, and one on each side", () => {
    expect(hoursOf(nights([]))).toEqual([12, 18]); // windows are from 01:00 to 05:00
    expect(hoursOf(nights([night("a", at(0, "23:30"))]))[0]).toBeLessThanOrEqual(11);
  });

  it("puts a booking into its night, at its hour, within its window", () => {
    const picture = drawn(nights([night("a", at(0, "01:00")), night("b", at(2, "03:00"))]), 1216);
    const [lane] = picture.lanes;
    const [a, b] = lane?.bars ?? [];
    const first = lane?.windows[0];
    expect(a?.x).toBeCloseTo(first?.x ?? 0, 1);
    expect(b?.x).toBeGreaterThan(picture.columns[2]?.x ?? 0);
    expect(b?.x).toBeLessThan((lane?.windows[2]?.x ?? 0) + (lane?.windows[2]?.width ?? 0));
  });

  it("lets no bar or name lie over another, and counts what has no room", () => {
    const many = Array.from({ length: 20 }, (_, n) => night(`site-${n}`, at(0, "01:00")));
    const [lane] = drawn(nights(many), 1216).lanes;
    expect(lane?.bars).toHaveLength(MOST_ROWS);
    expect(new Set(lane?.bars.map((bar) => bar.y)).size).toBe(MOST_ROWS);
    expect(lane?.more[0]?.count).toBe(20 - MOST_ROWS);
    expect((lane?.y ?? 0) + (lane?.height ?? 0)).toBeGreaterThan(Math.max(...(lane?.bars ?? []).map((bar) => bar.y)));
  });

  it("hatches a freeze where it holds: a whole lane, or a row of a site", () => {
    const frozen = (more: object) => ({
      freeze: 1,
      start: at(0, "00:00"),
      end: at(1, "12:00"),
      where: "the fleet",
      site: null,
      host: null,
      client: null,
      hosts: ["mole"],
      reason: "nobody on call",
      ...more,
    });
    const all = drawn(nights([], { frozen: [frozen({})] }), 1216).lanes[0];
    expect(all?.frozen.map((one) => one.height)).toEqual([all?.height, all?.height]);
    const one = drawn(nights([], { frozen: [frozen({ site: "ness", where: "Ness" })] }), 1216).lanes[0];
    expect(one?.frozen[0]?.height).toBeLessThan(one?.height ?? 0);
    expect(one?.frozen[0]?.text).toBe("Ness: nobody on call");
  });

  it("brackets waves with their gate between them", () => {
    const picture = drawn(
      nights(
        [
          night("a", at(0, "01:00"), { rollout: 3, wave: "canary" }),
          night("b", at(1, "01:00"), { rollout: 3, wave: "rest" }),
        ],
        { gates: [{ rollout: 3, label: "Canaries", start: at(0, "01:20"), end: at(0, "21:20"), waits: false, text: "20 h passed" }] },
      ),
      1216,
    );
    expect(picture.brackets.map((one) => [one.kind, one.text])).toEqual([
      ["wave", "1 canary"],
      ["wave", "1 more"],
      ["gate", "gate: 20 h passed"],
    ]);
  });

  it("is walked by the arrows, and stops at its ends", () => {
    const { bars } = drawn(
      nights([night("a", at(0, "01:00")), night("b", at(0, "01:00")), night("c", at(1, "01:00"))]),
      1216,
    ).lanes[0] ?? { bars: [] };
    const keys = bars.map((bar) => bar.key.split(" ")[0]);
    expect(keys[stepped(bars, 0, "ArrowDown") ?? -1]).toBe("b");
    expect(keys[stepped(bars, 0, "ArrowRight") ?? -1]).toBe("c");
    expect(stepped(bars, 0, "ArrowUp")).toBe(0);
    expect(stepped(bars, 0, "End")).toBe(2);
    expect(stepped(bars, 0, "x")).toBeUndefined();
  });

  it("shortens names, and a twin stays told as one", () => {
    expect(shortened("Tarnsey Harbour Museum, twin", 14)).toBe("Tarnsey, twin");
    expect(shortened("Tarnsey Harbour Museum", 8)).toBe("Tarnsey");
    expect(shortened("Tarnsey", 30)).toBe("Tarnsey");
  });
});

describe("what the calendar says", () => {
  it("names its nights and counts its sites", () => {
    expect(title(nights([]))).toBe("Nights of 27 Nov to 3 Dec");
    expect(tally(nights([night("a", at(0, "01:00"))], { unbooked: 2, clear: 6 }))).toBe(
      "1 site in them, 2 not booked, 6 with nothing to do",
    );
  });

  it("tells a booking whole to whoever hears it", () => {
    expect(spoken(night("Ness", at(0, "01:00"), { state: "not yet" }))).toMatch(/^Ness, Sat 28 Nov, 01:00 to 01:20, not yet approved$/);
  });

  it("draws what closes an advisory and wants a word in alarm, and no other", () => {
    expect(look(night("a", NOON, { state: "not yet", due_for: "advisory A-1, high" }))).toBe("urgent");
    expect(look(night("a", NOON, { state: "not yet", due_for: "its licence ends" }))).toBe("hollow");
    expect(look(night("a", NOON, { due_for: "advisory A-1, high" }))).toBe("full");
    expect(look(night("a", NOON, { rollout: 1 }))).toBe("wave");
  });

  it("lists nights that hold anything, and moves by weeks", () => {
    const list = byNight(nights([night("a", at(0, "01:00")), night("b", at(2, "01:00"))]));
    expect(list.map((one) => one.night.map((x) => x.site))).toEqual([["a"], ["b"]]);
    expect(moved(NOON, 7)).toBe("2026-12-04");
    expect(keyOf(night("a", NOON))).toBe("a 1 ");
  });
});

describe("the strip of a narrow page", () => {
  it("has a mark for each booking inside its night, those at one time below each other", () => {
    const many = Array.from({ length: 8 }, (_, n) => night(`s${n}`, "2026-11-28T01:00:00Z"));
    const strip = stripOf(nights([...many, night("late", "2026-11-30T04:50:00Z")]), 358);
    const marks = strip.lanes.flatMap((lane) => lane.marks);
    expect(marks).toHaveLength(6); // five rows are drawn, and the late one
    expect(new Set(marks.map((mark) => `${mark.x} ${mark.y}`)).size).toBe(6);
    for (const mark of marks) {
      const inside = strip.columns.some((column) => mark.x >= column.x && mark.x + mark.width <= column.x + column.width + 0.01);
      expect(inside).toBe(true);
      expect(mark.y + mark.height).toBeLessThanOrEqual(strip.height);
    }
  });
});
