import { Fragment } from "react";

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

/** A title with "→" in it, the arrows drawn and the versions in mono. */
export function Moves({ title }: { title: string }) {
  return (
    <>
      {title.split(" with ").map((one, index) => {
        const found = /^(.*) (\S+) → (\S+)$/.exec(one);
        return (
          <span key={one} className="block">
            {index > 0 && "with "}
            {found ? (
              <>
                {found[1]}{" "}
                <span className="v">
                  {found[2]}
                  <Arrow />
                  {found[3]}
                </span>
              </>
            ) : (
              one
            )}
          </span>
        );
      })}
    </>
  );
}

const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");

const two = (n: number) => String(n).padStart(2, "0");

/** "01:10", in the reader's own zone. */
export function clock(at: string | Date): string {
  const when = new Date(at);
  return `${two(when.getHours())}:${two(when.getMinutes())}`;
}

/** "Tue 24 Nov", with the year where it is not this one. */
export function day(at: string | Date): string {
  const when = new Date(at);
  const year = when.getFullYear() === new Date().getFullYear() ? "" : ` ${when.getFullYear()}`;
  return `${DAYS[when.getDay()]} ${when.getDate()} ${MONTHS[when.getMonth()]}${year}`;
}

/** "4 min", "5 h", "2 days"; null is "never". */
export function span(at: string | null | undefined, now = Date.now()): string {
  if (!at) return "never";
  const seconds = Math.abs(now - new Date(at).getTime()) / 1000;
  if (seconds < 60) return "1 min";
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86400)} days`;
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

export const plural = (n: number, one: string, many = `${one}s`) =>
  `${n} ${n === 1 ? one : many}`;
