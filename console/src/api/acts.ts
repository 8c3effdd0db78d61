import table from "./acts.json";
import type { Schemas } from "./schema-names";

type Act = Schemas["NextAct"];
type Surface = { command: string; page: string };

const ACTS = table as Record<string, Surface>;

const filled = (template: string, on: Record<string, string>, quote: (text: string) => string) =>
  template.replace(/\{(\w+)\}/g, (_, name: string) => quote(on[name] ?? ""));

/** The address of the page on which an act is done; "" where only a terminal does it. */
export const pageOf = (act: Act): string =>
  filled(ACTS[act.act]?.page ?? "", act.on ?? {}, (text) =>
    text.split("/").map(encodeURIComponent).join("/"),
  );

/** The command line that does an act. */
export const commandOf = (act: Act): string =>
  `windbreak ${filled(ACTS[act.act]?.command ?? act.act, act.on ?? {}, oneWord)}`;

/** A word of a command line, quoted where a shell would split it. */
const oneWord = (text: string) =>
  /^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", `'"'"'`)}'`;
