import { afterEach, expect, test } from "vitest";
import { now, showsNow } from "../../src/pieces/now";
import { span } from "../../src/pieces/time";

const DAY = 86_400_000;

afterEach(() => showsNow(new Date().toISOString()));

test("ages are reckoned by the service's clock", () => {
  showsNow(new Date(Date.now() + 4.5 * DAY).toISOString());
  expect((now() - Date.now()) / DAY).toBeCloseTo(4.5, 3);
  expect(span(new Date().toISOString())).toBe("4 days");
});

test("an answer's way does not move it, and an answer without a time changes nothing", () => {
  showsNow(new Date(Date.now() + 1_000).toISOString());
  expect(now() - Date.now()).toBeLessThan(500);
  showsNow(null);
  expect(now() - Date.now()).toBeLessThan(500);
});
