import { expect, test } from "vitest";
import { commandOf, pageOf } from "../../src/api/acts";

const act = (name: string, on: Record<string, string>) => ({ act: name, on, label: "x" }) as never;

test("an act has its page and its command", () => {
  const link = act("link", { site: "tarnsey-harbour" });
  expect(pageOf(link)).toBe("/sites/tarnsey-harbour");
  expect(commandOf(link)).toBe("windbreak site link tarnsey-harbour");
});

test("what it is done on is quoted in an address", () => {
  expect(pageOf(act("see-site", { site: "a?b#c" }))).toBe("/sites/a%3Fb%23c");
});

test("what it is done on is one word of the command line", () => {
  expect(commandOf(act("link", { site: "a b" }))).toBe("windbreak site link 'a b'");
});

test("an act that only a terminal does has no page", () => {
  expect(pageOf(act("take-over", {}))).toBe("");
});
