import type { Schemas, SiteSummary } from "../src/api/client";

/** A row of a site, as the service gives it; what a test is about is given. */
export function site(id: string, more: Partial<SiteSummary> = {}): SiteSummary {
  const bare = {
    id,
    label: id[0]?.toUpperCase() + id.slice(1),
    client: "Tarnsey Trust",
    address: `http://${id}.example`,
    host: "mole",
    host_name: "Mole",
    state: "ready",
    twin_of: null,
    tags: [],
    moves: {},
    held: 0,
    progress: null,
  };
  return { ...bare, ...more } as unknown as SiteSummary;
}

/** A row of a product. */
export function product(id: string, more: Partial<Schemas["ProductRow"]> = {}): Schemas["ProductRow"] {
  const [kind, slug] = id.split("/");
  const bare = {
    product: { id, kind, name: slug, maker: "Chandlery" },
    decision: "made",
    state: "clear",
    versions: [],
  };
  return { ...bare, ...more } as unknown as Schemas["ProductRow"];
}
