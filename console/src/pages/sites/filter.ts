import type { SiteSummary, State } from "../../api/client";

/** The filter of the sites page; it lives in the address. */
export interface Filter {
  text: string;
  client: string;
  host: string;
  state: State | "";
  tag: string;
  /** A fact, as "trestle<5.1"; the service says of which sites it is true. */
  runs: string;
}

export function readFilter(params: URLSearchParams): Filter {
  return {
    text: params.get("text") ?? "",
    client: params.get("client") ?? "",
    host: params.get("host") ?? "",
    state: (params.get("state") ?? "") as State | "",
    tag: params.get("tag") ?? "",
    runs: params.get("runs") ?? "",
  };
}

export function writeFilter(filter: Filter): URLSearchParams {
  return new URLSearchParams(Object.entries(filter).filter(([, value]) => value));
}

/** The sites that fit; `running` are those of which the fact is true, where one is asked. */
export function narrow(
  sites: SiteSummary[],
  filter: Filter,
  running: Set<string> | null = null,
): SiteSummary[] {
  const text = filter.text.toLowerCase();
  return sites.filter(
    (site) =>
      (!filter.client || site.client === filter.client) &&
      (!filter.host || site.host === filter.host) &&
      (!filter.state || site.state === filter.state) &&
      (!filter.tag || site.tags.includes(filter.tag)) &&
      (!running || running.has(site.id)) &&
      `${site.label} ${site.client} ${site.address} ${site.id}`.toLowerCase().includes(text),
  );
}
