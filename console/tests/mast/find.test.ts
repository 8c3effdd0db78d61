import { expect, test } from "vitest";
import { find } from "../../src/mast/find";
import { product, site } from "../sites";

const SITES = [site("harbour", { label: "Tarnsey Harbour Museum" }), site("radio", { label: "Whinchat Radio" })];
const PRODUCTS = [product("plugin/trestle"), product("core/millrace")];

test("every word must fit, in any order", () => {
  expect(find(SITES, PRODUCTS, "museum tarnsey").map((p) => p.to)).toEqual(["/sites/harbour"]);
  expect(find(SITES, PRODUCTS, "museum radio")).toEqual([]);
});

test("a word for the plan leads to it", () => {
  expect(find(SITES, PRODUCTS, "harbour plan").map((p) => p.to)).toContain("/sites/harbour/plan");
});

test("products and acts are found too", () => {
  expect(find(SITES, PRODUCTS, "trestle").map((p) => p.to)).toEqual(["/products/plugin/trestle"]);
  expect(find(SITES, PRODUCTS, "licences").map((p) => p.to)).toEqual(["/licences"]);
});

test("no more are listed than can be looked over", () => {
  const many = Array.from({ length: 40 }, (_, n) => site(`harbour-${n}`));
  expect(find(many, [], "harbour")).toHaveLength(8);
});
