/** A site's components under what keeps them back, and its last day. No React here. */
import type { Schemas } from "../../api/client";

type Part = Pick<Schemas["ComponentView"], "product" | "state">;
type Root = Pick<Schemas["RootView"], "keeps">;

/** The components under one root, in the root's order. */
export function partsUnder<P extends Part>(root: Root, parts: readonly P[]): P[] {
  return root.keeps.flatMap((product) => parts.filter((one) => one.product === product));
}

const besides = <P extends Part>(roots: readonly Root[], parts: readonly P[]): P[] => {
  const under = new Set(roots.flatMap((root) => root.keeps));
  return parts.filter((one) => !under.has(one.product));
};

/** The components that can't wait, which stand before what keeps others back. */
export const urgent = <P extends Part>(roots: readonly Root[], parts: readonly P[]): P[] =>
  besides(roots, parts).filter((one) => one.state === "exposed");

/** The components under no root, in their order, but for the urgent ones. */
export const partsBesides = <P extends Part>(roots: readonly Root[], parts: readonly P[]): P[] =>
  besides(roots, parts).filter((one) => one.state !== "exposed");

/** What each version takes: the version, and the acts that would bring it, in their order. */
export function byVersion(
  acts: readonly Pick<Schemas["Helps"], "text" | "brings">[],
  newest: string,
): [string, string[]][] {
  const found = new Map<string, string[]>();
  for (const act of acts) found.set(act.brings ?? newest, [...(found.get(act.brings ?? newest) ?? []), act.text]);
  return [...found];
}

const QUARTER = 15 * 60_000;
const QUARTERS = 96;

/** What pages were like in each quarter of an hour of the last day, the oldest first. */
export function quarters(
  spans: readonly Pick<Schemas["Span"], "at" | "state">[],
  until: number,
): ("fine" | "wrong" | "unknown")[] {
  return Array.from({ length: QUARTERS }, (_, n) => {
    const end = until - (QUARTERS - 1 - n) * QUARTER;
    const then = spans.filter((span) => Date.parse(span.at) <= end);
    // What was wrong within a quarter shows, though it was well again by its end.
    const within = then.filter((_, k) => k === then.length - 1 || Date.parse(then[k + 1]?.at ?? "") > end - QUARTER);
    if (within.some((span) => span.state === "broken" || span.state === "unreachable")) return "wrong";
    return within.at(-1)?.state === "fine" ? "fine" : "unknown";
  });
}
