import { QueryClient } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import { showsNow } from "../pieces/now";
import type { paths } from "./schema";
import type { Schemas } from "./schema-names";

export type { Schemas };
export type State = Schemas["SiteSummary"]["state"];
export type SiteSummary = Schemas["SiteSummary"];
export type Finding = Schemas["Finding"];
export type SitePlan = Schemas["SitePlan"];
export type RunStory = Schemas["RunStory"];
export type LedgerQuery = NonNullable<paths["/api/v1/ledger/summary"]["get"]["parameters"]["query"]>;

export const api = createClient<paths>({ baseUrl: "/", credentials: "same-origin" });

/** The generation of what was written last from here: a read after it waits until it can be read. */
let written = 0;

api.use({
  onRequest({ request }) {
    if (request.method === "GET" && written) {
      request.headers.set("at-least-generation", String(written));
    }
    return request;
  },
  onResponse({ request, response }) {
    const told = Number(response.headers.get("generation"));
    if (request.method !== "GET" && told > written) written = told;
    showsNow(response.headers.get("service-time"));
  },
});

/** What the service said when it said no; the sentence is its own. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    detail: string,
    readonly details: object = {},
  ) {
    super(detail);
  }
}

/** The data of an answer. Throws Problem, whose message is a sentence for a person. */
export async function told<T>(
  asked: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let answer;
  try {
    answer = await asked;
  } catch {
    throw new Problem(0, "unreachable", "The service gives no answer. Nothing was changed.");
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const said = (answer.error ?? {}) as { code?: string; detail?: string };
    throw new Problem(
      answer.response.status,
      said.code ?? "unknown",
      said.detail ?? `The service answered with status ${answer.response.status}.`,
      said,
    );
  }
  return answer.data as T;
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      refetchOnWindowFocus: true,
      retry: (count, error) =>
        count < 3 && !(error instanceof Problem && error.status >= 400 && error.status < 500),
    },
  },
});

/** What is asked for, by name: the key of each query begins with the kinds of event it hangs on. */
export const asked = {
  me: () => ({
    queryKey: ["me"],
    queryFn: () => told(api.GET("/api/v1/session")),
    retry: false,
  }),
  today: () => ({ queryKey: ["today"], queryFn: () => told(api.GET("/api/v1/today")) }),
  running: (fact: string) => ({
    queryKey: ["today", "running", fact],
    queryFn: () => told(api.GET("/api/v1/sites", { params: { query: { runs: fact } } })),
    retry: false,
  }),
  site: (id: string) => ({
    queryKey: ["site", id],
    queryFn: () => told(api.GET("/api/v1/sites/{id}", { params: { path: { id } } })),
  }),
  plans: (id: string) => ({
    queryKey: ["plans", id],
    queryFn: () => told(api.GET("/api/v1/sites/{id}/plans", { params: { path: { id } } })),
  }),
  outlook: (id: string, suppose: string[]) => ({
    queryKey: ["outlook", id, ...suppose],
    queryFn: () =>
      told(api.GET("/api/v1/sites/{id}/outlook", { params: { path: { id }, query: { if: suppose } } })),
  }),
  sheet: (plan: number) => ({
    queryKey: ["plans", "sheet", plan],
    queryFn: () => told(api.GET("/api/v1/plans/{id}/sheet", { params: { path: { id: plan } } })),
  }),
  charts: (plan: number) => ({
    queryKey: ["charts", plan],
    queryFn: () => told(api.GET("/api/v1/plans/{id}/charts", { params: { path: { id: plan } } })),
  }),
  acts: (product?: string) => ({
    queryKey: ["acts", product ?? ""],
    queryFn: () => told(api.GET("/api/v1/acts", { params: { query: product ? { product } : {} } })),
  }),
  rules: () => ({ queryKey: ["rules"], queryFn: () => told(api.GET("/api/v1/rules")) }),
  products: () => ({ queryKey: ["products"], queryFn: () => told(api.GET("/api/v1/products")) }),
  product: (kind: string, slug: string) => ({
    queryKey: ["products", kind, slug],
    queryFn: () =>
      told(api.GET("/api/v1/products/{kind}/{slug}", { params: { path: { kind, slug } } })),
  }),
  licences: () => ({ queryKey: ["licences"], queryFn: () => told(api.GET("/api/v1/licences")) }),
  credentials: () => ({
    queryKey: ["licences", "credentials"],
    queryFn: () => told(api.GET("/api/v1/credentials")),
  }),
  forecasts: () => ({
    queryKey: ["licences", "forecasts"],
    queryFn: () => told(api.GET("/api/v1/forecasts")),
  }),
  feeds: () => ({ queryKey: ["feeds"], queryFn: () => told(api.GET("/api/v1/feeds")) }),
  accounts: () => ({ queryKey: ["accounts"], queryFn: () => told(api.GET("/api/v1/accounts")) }),
  coverage: () => ({ queryKey: ["coverage"], queryFn: () => told(api.GET("/api/v1/coverage")) }),
  hosts: () => ({ queryKey: ["hosts"], queryFn: () => told(api.GET("/api/v1/hosts")) }),
  task: (id: number) => ({
    queryKey: ["task", id],
    queryFn: () => told(api.GET("/api/v1/tasks/{id}", { params: { path: { id } } })),
  }),
  errands: (site: string) => ({
    queryKey: ["site", site, "errands"],
    queryFn: () => told(api.GET("/api/v1/errands", { params: { query: { site } } })),
  }),
  nights: (from: string | null, days: number, zone: string) => ({
    queryKey: ["nights", from ?? "", days, zone],
    queryFn: () =>
      told(api.GET("/api/v1/nights", { params: { query: { from: from ?? undefined, days, zone, proposed: true } } })),
  }),
  draft: (id: string) => ({
    queryKey: ["drafts", id],
    queryFn: () => told(api.GET("/api/v1/rollouts/drafts/{id}", { params: { path: { id } } })),
  }),
  rollouts: () => ({ queryKey: ["rollouts"], queryFn: () => told(api.GET("/api/v1/rollouts")) }),
  rollout: (id: number) => ({
    queryKey: ["rollouts", id],
    queryFn: () => told(api.GET("/api/v1/rollouts/{id}", { params: { path: { id } } })),
  }),
  runs: () => ({ queryKey: ["runs"], queryFn: () => told(api.GET("/api/v1/runs")) }),
  run: (id: number) => ({
    queryKey: ["run", id],
    queryFn: () => told(api.GET("/api/v1/runs/{id}", { params: { path: { id } } })),
  }),
  ledger: (query: LedgerQuery, limit: number) => ({
    queryKey: ["ledger", query],
    queryFn: ({ pageParam }: { pageParam: number | null }) =>
      told(
        api.GET("/api/v1/ledger", {
          params: { query: { ...query, limit, ...(pageParam !== null && { after: pageParam }) } },
        }),
      ),
  }),
  ledgerSummary: (query: LedgerQuery) => ({
    queryKey: ["ledger", "summary", query],
    queryFn: () => told(api.GET("/api/v1/ledger/summary", { params: { query } })),
  }),
  report: (client: string, month: string, looks: boolean) => ({
    queryKey: ["ledger", "report", client, month, looks],
    queryFn: () => told(api.GET("/api/v1/report", { params: { query: { client, month, looks } } })),
  }),
  matter: (id: number) => ({
    queryKey: ["run", id, "matter"],
    queryFn: () => told(api.GET("/api/v1/matters/{id}", { params: { path: { id } } })),
  }),
};
