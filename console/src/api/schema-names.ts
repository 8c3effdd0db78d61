import type { components } from "./schema";

/** The service's types by name, generated from its OpenAPI. */
export type Schemas = components["schemas"];
