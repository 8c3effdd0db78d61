import { Fragment } from "react";
import { clock, day, span } from "./time";

/** A sentence of the service: **bold** is its subject, `mono` a version or an id. */
export function Sentence({ text }: { text: string }) {
  const parts = text.split(/(\*\*.+?\*\*|`.+?`)/);
  return (
    <>
      {parts.map((part, index) => {
        if (part.startsWith("**")) return <b key={index}>{part.slice(2, -2)}</b>;
        if (part.startsWith("`"))
          return (
            <span key={index} className="v">
              {part.slice(1, -1)}
            </span>
          );
        return <Fragment key={index}>{part}</Fragment>;
      })}
    </>
  );
}

/** The drawn arrow; it is read as "to". */
export function Arrow() {
  return (
    <svg className="mx-[5px] inline text-ink-3" width="12" height="8" viewBox="0 0 12 8" role="img" aria-label="to">
      <path d="M.5 4h10M7.5 1l3.3 3-3.3 3" fill="none" stroke="currentColor" strokeWidth="1.3" />
    </svg>
  );
}

export interface NamedMove {
  name: string;
  start: string | null;
  end: string | null;
}

/** The moves of a step, one below the other: name, from and to, the versions in mono. */
export function Moves({ moves }: { moves: readonly NamedMove[] }) {
  return (
    <>
      {moves.map((move, index) => (
        <span key={move.name} className="block">
          {index > 0 && "with "}
          {move.name}{" "}
          <span className="v">
            {move.start ?? "absent"}
            <Arrow />
            {move.end ?? "gone"}
          </span>
        </span>
      ))}
    </>
  );
}

/** An age; the exact time is on hover. */
export function Age({ at, suffix = "" }: { at: string | null | undefined; suffix?: string }) {
  if (!at) return <span>never</span>;
  return (
    <time dateTime={at} title={`${day(at)}, ${clock(at)}`}>
      {span(at)}
      {suffix}
    </time>
  );
}
