import { expect, test } from "vitest";
import { pickedText, toggled, toggledAll } from "../../src/pages/sites/picks";
import { site } from "../sites";

test("a click picks a site, and another lets it go", () => {
  const one = toggled(new Set(), "ness");
  expect([...one]).toEqual(["ness"]);
  expect([...toggled(one, "ness")]).toEqual([]);
});

test("the box of all picks what is shown beside what was picked, and lets only the shown go", () => {
  const some = toggledAll(new Set(["fulmar", "ness"]), ["ness", "skerry"]);
  expect([...some].sort()).toEqual(["fulmar", "ness", "skerry"]);
  expect([...toggledAll(some, ["ness", "skerry"])]).toEqual(["fulmar"]);
});

test("who was picked stands by name, beyond four as a number, with the moves that wait there", () => {
  const sites = ["A", "B", "C", "D", "E"].map((label) => site(label.toLowerCase(), { link: "linked", moves: { core: 1 } }));
  expect(pickedText(sites)).toBe("A, B, C, D and 1 more. 5 moves wait there.");
  expect(pickedText([site("a")])).toBe("A. Nothing waits there.");
});
