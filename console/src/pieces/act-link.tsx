import { Link } from "react-router";
import { commandOf, pageOf } from "../api/acts";
import type { Schemas } from "../api/client";

/** An act as a link to the page where it is done; its command where only a terminal does it. */
export function ActLink({ act, go }: { act: Schemas["NextAct"]; go?: boolean }) {
  const page = pageOf(act);
  if (!page)
    return (
      <code className="v text-[12px] text-ink-2" title={`${act.label}: at a terminal`}>
        {commandOf(act)}
      </code>
    );
  return (
    <Link className={go ? "btn go" : "t tap underline"} to={page} title={commandOf(act)}>
      {act.label}
    </Link>
  );
}
