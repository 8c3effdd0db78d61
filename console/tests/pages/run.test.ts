import { describe, expect, test } from "vitest";
import type { RunStory, Schemas } from "../../src/api/client";
import { when } from "../../src/pieces/errands";
import { inWords, length, marks, scale, visitors, waitingScale } from "../../src/pages/run/lanes";
import { differs } from "../../src/pages/run/pictures";

const AT = "2026-11-27T01:34:00Z";
const minutes = (n: number) => Date.parse(AT) + n * 60_000;

const story = (more: Partial<Schemas["Run"]>, told: string | null = null) =>
  ({
    run: { waiting_since: AT, last_sign_at: AT, asked: [], meanwhile: [], ...more },
    told_at: told,
    pace: null,
  }) as unknown as RunStory;

const pair = (more: Partial<Schemas["PicturePair"]>): Schemas["PicturePair"] => ({
  page: "Front page",
  width: 1280,
  height: 800,
  before: "/a",
  after: "/b",
  boxes: [],
  lively: [],
  ...more,
});

describe("the time line of a silent site", () => {
  test("places instants by share, and never outside of it", () => {
    const line = scale(minutes(0), minutes(10));
    expect(line.at(minutes(5))).toBe(50);
    expect(line.at("2026-11-27T01:34:00Z")).toBe(0);
    expect(line.at(minutes(99))).toBe(100);
  });

  test("reaches past the instant at which a person is told", () => {
    const line = waitingScale(story({}, "2026-11-27T02:04:00Z"), minutes(3));
    expect(line.from).toBeLessThan(minutes(0));
    expect(line.to).toBeGreaterThan(minutes(30));
  });

  test("has eight full minutes above it at the most", () => {
    for (const wide of [3, 20, 45, 300, 3000]) {
      const hours = marks(scale(minutes(0), minutes(wide)), minutes(wide));
      expect(hours.length).toBeLessThanOrEqual(9);
      expect(hours.length).toBeGreaterThan(1);
    }
  });

  test("is told in a sentence, with how its pages are", () => {
    const seen = { asked: [AT, AT], meanwhile: [{ at: AT, fine: 5, of: 6 }] };
    expect(inWords(story(seen))).toMatch(/Asked 2 times since.*5 of 6 pages were as before/);
    expect(visitors(story(seen))).toMatchObject({ fine: false, head: "Visitors notice it:" });
    expect(visitors(story({}))).toBeNull();
  });
});

test("a length is minutes and seconds", () => {
  expect(length(220)).toBe("3:40");
  expect(length(59.7)).toBe("1:00");
});

describe("pictures", () => {
  test("say in how many places they differ, and what changes by itself", () => {
    expect(differs([pair({})])).toBe("as before");
    expect(differs([pair({ boxes: [[0, 0, 16, 16]] })])).toBe("differs in 1 place");
    expect(differs([pair({ lively: [[0, 0, 16, 16]] })])).toMatch(/changes by itself/);
    expect(differs([pair({ after: null })])).toBe("no picture after the run yet");
  });
});

test("an errand says what waits for it, until when, or who did it", () => {
  const errand = { id: 1, text: "x", blocking: false, due: null, closed_at: null } as never;
  expect(when(errand)).toBe("no day");
  expect(when({ ...(errand as object), blocking: true, run: 7 } as never)).toBe("run 7 waits for it");
  expect(when({ ...(errand as object), closed_at: AT, closed_by: "Rhona Vale", how: "by phone" } as never)).toBe(
    "done by Rhona Vale: by phone",
  );
});
