/** A site's components under what keeps them back. No React here. */
import type { Schemas } from "../../api/client";

type Part = Pick<Schemas["ComponentView"], "product" | "state">;
type Root = Pick<Schemas["RootView"], "keeps">;

/** The components under one root, in the root's order. */
export function partsUnder<P extends Part>(root: Root, parts: readonly P[]): P[] {
  return root.keeps.flatMap((product) => parts.filter((one) => one.product === product));
}

/** The components under no root, in their order. */
export function partsBesides<P extends Part>(roots: readonly Root[], parts: readonly P[]): P[] {
  const under = new Set(roots.flatMap((root) => root.keeps));
  return parts.filter((one) => !under.has(one.product));
}
