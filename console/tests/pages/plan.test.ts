import { expect, test } from "vitest";
import { broughtText } from "../../src/pages/plan/state";

const bring = (more: object) =>
  ({ step: 1, product: "plugin/lee", version: "5.5", kind: "review", by: "person", text: "Look at it.", ...more }) as
    Parameters<typeof broughtText>[0];

test("what a step brings says who does it, and whether the run waits", () => {
  expect(broughtText(bring({ by: "run", kind: "migrate" }))).toBe("The run follows its migration to the end: Look at it.");
  expect(broughtText(bring({ by: "nobody", text: "Put back on Ness (run 2)." }))).toBe("To read: Put back on Ness (run 2).");
  expect(broughtText(bring({ blocking: true }))).toBe("Errand, and the run waits for it: Look at it.");
  expect(broughtText(bring({ due_days: 7 }))).toBe("Errand within 7 days: Look at it.");
});
