import type { SiteSummary, State } from "../api/client";

/** The filter of the sites page; it lives in the address. */
export interface Filter {
  text: string;
  client: string;
  host: string;
  state: State | "";
}

export function readFilter(params: URLSearchParams): Filter {
  return {
    text: params.get("text") ?? "",
    client: params.get("client") ?? "",
    host: params.get("host") ?? "",
    state: (params.get("state") ?? "") as State | "",
  };
}

export function writeFilter(filter: Filter): URLSearchParams {
  return new URLSearchParams(Object.entries(filter).filter(([, value]) => value));
}

export function narrow(sites: SiteSummary[], filter: Filter): SiteSummary[] {
  const text = filter.text.toLowerCase();
  return sites.filter(
    (site) =>
      (!filter.client || site.client === filter.client) &&
      (!filter.host || site.host === filter.host) &&
      (!filter.state || site.state === filter.state) &&
      `${site.label} ${site.client} ${site.address} ${site.id}`.toLowerCase().includes(text),
  );
}
