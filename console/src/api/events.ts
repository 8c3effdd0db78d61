import { useEffect, useState } from "react";
import { queries } from "./client";

/** Which queries an event of a kind makes old. */
const TOUCHED: Record<string, string[]> = {
  run: ["ledger", "run", "runs", "today", "site", "products", "nights", "rollouts"],
  site: ["ledger", "site", "today", "products", "licences", "coverage"],
  plan: ["ledger", "plans", "site", "today", "nights", "rollouts"],
  booking: ["ledger", "plans", "site", "today", "nights", "rollouts"],
  freeze: ["ledger", "plans", "site", "today", "nights"],
  rollout: ["ledger", "today", "nights", "rollouts"],
  draft: ["nights", "drafts"],
  watch: ["ledger", "nights"],
  "failed-move": ["ledger", "today", "nights", "rollouts", "products"],
  feed: ["ledger", "today", "feeds", "coverage"],
  release: ["ledger", "today", "feeds", "products", "licences", "site", "coverage"],
  product: ["ledger", "today", "products", "licences", "site", "coverage"],
  host: ["ledger", "today", "site", "products"],
  day: ["ledger", "today", "site", "products", "licences"],
  finding: ["ledger", "today"],
  hold: ["ledger", "site", "today", "products"],
  licence: ["ledger", "site", "today", "licences"],
};

const GATHER_MS = 250;

/** Keep the query cache fresh by the service's events; tells whether the stream is open. */
export function useEvents(signedIn: boolean): boolean {
  const [live, setLive] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    const source = new EventSource("/api/v1/events");
    const old = new Set<string>();
    let timer: number | undefined;
    const flush = () => {
      timer = undefined;
      for (const key of old) void queries.invalidateQueries({ queryKey: [key] });
      old.clear();
    };
    const hear = (kind: string) => () => {
      for (const key of TOUCHED[kind] ?? []) old.add(key);
      timer ??= window.setTimeout(flush, GATHER_MS);
    };
    for (const kind of Object.keys(TOUCHED)) source.addEventListener(kind, hear(kind));
    source.onopen = () => {
      setLive(true);
      // What happened while nobody listened is not known: ask again.
      void queries.invalidateQueries();
    };
    source.onerror = () => setLive(false);
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [signedIn]);
  return live;
}
