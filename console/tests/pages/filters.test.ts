import { describe, expect, test } from "vitest";
import { narrow as narrowProducts } from "../../src/pages/products/filter";
import { narrow, readFilter, writeFilter } from "../../src/pages/sites/filter";
import { product, site } from "../sites";

const SITES = [
  site("harbour", { client: "Tarnsey", tags: ["shop"], state: "blocked" }),
  site("radio", { client: "Whinchat", host: "pier" }),
];
const ids = (query: string, running: Set<string> | null = null) =>
  narrow(SITES, readFilter(new URLSearchParams(query)), running).map((one) => one.id);

describe("the sites' filter", () => {
  test("each field narrows by itself", () => {
    expect(ids("")).toEqual(["harbour", "radio"]);
    expect(ids("client=Whinchat")).toEqual(["radio"]);
    expect(ids("host=mole")).toEqual(["harbour"]);
    expect(ids("state=blocked")).toEqual(["harbour"]);
    expect(ids("tag=shop")).toEqual(["harbour"]);
    expect(ids("text=TARNS")).toEqual(["harbour"]);
  });

  test("fields narrow together", () => {
    expect(ids("client=Whinchat&state=blocked")).toEqual([]);
  });

  test("a fact narrows to the sites of which the service says it is true", () => {
    expect(ids("runs=trestle<5.1", new Set(["radio"]))).toEqual(["radio"]);
    expect(ids("runs=trestle<5.1", null)).toHaveLength(2); // not answered yet
  });

  test("what stands in the address comes back as it was, and nothing empty stands there", () => {
    const given = "text=a%26b&state=ready&runs=trestle%3C5.1";
    const written = writeFilter(readFilter(new URLSearchParams(given)));
    expect(readFilter(written)).toEqual(readFilter(new URLSearchParams(given)));
    expect([...written.keys()]).toEqual(["text", "state", "runs"]);
  });
});

describe("the products' filter", () => {
  const rows = [
    product("plugin/trestle", { decision: "asked" }),
    product("theme/breakwater", { decision: "held" }),
    product("core/millrace"),
  ];
  const found = (query: string) =>
    narrowProducts(rows, new URLSearchParams(query)).map((row) => row.product.id);

  test("kind, maker and text narrow", () => {
    expect(found("kind=theme")).toEqual(["theme/breakwater"]);
    expect(found("maker=Chandlery")).toHaveLength(3);
    expect(found("text=mill")).toEqual(["core/millrace"]);
  });

  test("decisions are told by data, not by their words", () => {
    expect(found("decision=to+decide")).toEqual(["plugin/trestle"]);
    expect(found("decision=held")).toEqual(["theme/breakwater"]);
    expect(found("decision=decided")).toEqual(["core/millrace"]);
  });
});
