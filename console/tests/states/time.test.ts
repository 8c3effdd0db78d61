import { describe, expect, test } from "vitest";
import { clock, daysTo, plural, reasonOf, span } from "../../src/pieces/time";
import { STATES, WORST_FIRST } from "../../src/states/states";

describe("ages", () => {
  const now = Date.parse("2026-11-24T12:00:00Z");
  const ago = (seconds: number) => span(new Date(now - seconds * 1000).toISOString(), now);

  test("in the largest unit that tells it, rounded down", () => {
    expect([0, 59, 60, 3599, 3600, 47 * 3600, 48 * 3600].map(ago)).toEqual([
      "1 min",
      "1 min",
      "1 min",
      "59 min",
      "1 h",
      "47 h",
      "2 days",
    ]);
  });

  test("what never was is never", () => expect(span(null)).toBe("never"));
  test("one is one", () => expect([plural(1, "site"), plural(2, "site")]).toEqual(["1 site", "2 sites"]));
});

describe("a why beside its time", () => {
  const at = "2026-11-29T23:00:00Z";
  test("drops the hour that stands there", () =>
    expect(reasonOf(`Sun 29 Nov ${clock(at)}: the window opens.`, at)).toBe("The window opens."));
  test("says that it goes by another clock at the site", () => {
    const there = clock("2026-11-29T23:30:00Z");
    expect(reasonOf(`Mon 30 Nov ${there}: the window opens.`, at)).toBe(`By the site’s clock, Mon 30 Nov ${there}: the window opens.`);
  });
  test("leaves what begins otherwise", () => expect(reasonOf("rhona: so be it.", at)).toBe("Rhona: so be it."));
});

test("every state has a shape and a word of its own, worst first", () => {
  expect(WORST_FIRST[0]).toBe("exposed");
  expect(WORST_FIRST.at(-1)).toBe("clear");
  const words = WORST_FIRST.map((state) => STATES[state].word);
  expect(new Set(words).size).toBe(words.length);
  expect(new Set(WORST_FIRST.map((state) => JSON.stringify(STATES[state].draw))).size).toBe(words.length);
});

describe("days to a day", () => {
  const evening = new Date("2026-11-28T22:30:00").getTime();
  test("are those of the calendar, whatever the hour", () => {
    expect(daysTo("2026-12-04", evening)).toBe(6);
    expect(daysTo("2026-12-04T00:10:00", evening)).toBe(6);
    expect(daysTo("2026-11-28", evening)).toBe(0);
    expect(daysTo("2026-11-29T00:05:00", evening)).toBe(1);
    expect(daysTo("2026-11-27", evening)).toBe(-1);
  });
});
