/** The filter of the products page; it lives in the address. No React here. */

import type { Schemas } from "../../api/client";

type Row = Schemas["ProductRow"];

export const DECISIONS: Record<Row["decision"] & string, string> = {
  asked: "to decide",
  held: "held",
  made: "decided",
};

/** The products that fit what stands in the address. */
export function narrow(rows: readonly Row[], params: URLSearchParams): Row[] {
  const given = (name: string) => params.get(name) ?? "";
  const text = given("text").toLowerCase();
  return rows.filter(
    ({ product, decision }) =>
      (!given("kind") || product.kind === given("kind")) &&
      (!given("maker") || product.maker === given("maker")) &&
      (!given("decision") || DECISIONS[decision ?? "made"] === given("decision")) &&
      `${product.name} ${product.maker} ${product.id}`.toLowerCase().includes(text),
  );
}
