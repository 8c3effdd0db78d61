import { expect, test } from "vitest";
import { partsBesides, partsUnder } from "./state";

const parts = ["core/millrace", "plugin/trestle", "theme/breakwater", "plugin/lee"].map((product) => ({
  product,
  state: "blocked" as const,
}));
const roots = [{ keeps: ["theme/breakwater", "plugin/trestle"] }, { keeps: ["core/millrace"] }];

test("a component stands under its root, in the root's order", () => {
  expect(partsUnder(roots[0]!, parts).map((one) => one.product)).toEqual(["theme/breakwater", "plugin/trestle"]);
});

test("every component is told once: under a root, or besides", () => {
  const told = [...roots.flatMap((root) => partsUnder(root, parts)), ...partsBesides(roots, parts)];
  expect(told.map((one) => one.product).sort()).toEqual(parts.map((one) => one.product).sort());
});
