import { expect, test } from "vitest";
import { byVersion, partsBesides, partsUnder, quarters, urgent } from "../../src/pages/site/state";

const parts = [
  ...["core/millrace", "plugin/trestle", "theme/breakwater", "plugin/lee"].map((product) => ({
    product,
    state: "blocked" as "blocked" | "exposed",
  })),
  { product: "plugin/sextant", state: "exposed" as const },
];
const roots = [{ keeps: ["theme/breakwater", "plugin/trestle"] }, { keeps: ["core/millrace"] }];

test("a component stands under its root, in the root's order", () => {
  expect(partsUnder(roots[0]!, parts).map((one) => one.product)).toEqual(["theme/breakwater", "plugin/trestle"]);
});

test("every component is told once: under a root, or besides", () => {
  const told = [
    ...urgent(roots, parts),
    ...roots.flatMap((root) => partsUnder(root, parts)),
    ...partsBesides(roots, parts),
  ];
  expect(told[0]?.product).toBe("plugin/sextant");
  expect(told.map((one) => one.product).sort()).toEqual(parts.map((one) => one.product).sort());
});

test("acts that bring the same version are told on one line", () => {
  const acts = [
    { text: "Renew it", brings: "5.1" },
    { text: "Buy one", brings: null },
    { text: "Buy another", brings: null },
  ];
  expect(byVersion(acts, "5.2")).toEqual([
    ["5.1", ["Renew it"]],
    ["5.2", ["Buy one", "Buy another"]],
  ]);
});

const until = Date.parse("2026-11-24T12:00:00Z");
const at = (text: string) => `2026-11-${text}Z`;

test("a quarter of an hour in which pages were wrong shows, though they were well again by its end", () => {
  const seen = quarters(
    [
      { at: at("20T00:00:00"), state: "fine" },
      { at: at("24T03:16:00"), state: "broken" },
      { at: at("24T03:20:00"), state: "fine" },
    ],
    until,
  );
  expect(seen.filter((one) => one === "wrong")).toHaveLength(1);
  expect(seen.filter((one) => one === "fine")).toHaveLength(95);
});

test("before the first look nothing is told", () => {
  const seen = quarters([{ at: at("24T11:00:00"), state: "fine" }], until);
  expect(seen.slice(0, 91).every((one) => one === "unknown")).toBe(true);
  expect(seen.slice(-5).every((one) => one === "fine")).toBe(true);
});
