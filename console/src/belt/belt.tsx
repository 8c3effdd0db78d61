import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { SiteSummary } from "../api/client";
import { plural } from "../pieces/time";
import { STATES } from "../states/states";
import { type Bar, heightOf, hostNames, layout, type Sign, siteNames, walked } from "./layout";
import { Shape } from "./tree";

// In the small one pointers stand between the ground and the names of the hosts.
const BIG = { height: 144, ground: 124.5, base: 120, bar: 10, rise: 21.7, left: 22, trunk: 4, names: 14 };
const SMALL = { height: 73, ground: 48.5, base: 45, bar: 8, rise: 6.5, left: 0, trunk: 3, names: 19 };

const label = (bar: Bar) =>
  `${bar.site.label}: ${plural(bar.moves, "move")} waiting, ${STATES[bar.state].word}`;

/** The fleet as a row of bars like a row of trees. `subjects` are the sites the page is about. */
export function Belt({
  sites,
  subjects,
  children,
}: {
  sites: SiteSummary[];
  subjects?: string[];
  children: React.ReactNode;
}) {
  const big = subjects === undefined;
  const size = big ? BIG : SMALL;
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(880);
  const [at, setAt] = useState(-1);
  const go = useNavigate();
  useEffect(() => {
    if (!box.current) return;
    const seen = new ResizeObserver(([entry]) => {
      if (entry) setWidth(Math.max(280, entry.contentRect.width));
    });
    seen.observe(box.current);
    return () => seen.disconnect();
  }, []);
  const { bars, grounds, dense } = useMemo(
    () => layout(sites, { width, left: size.left, bar: size.bar, rise: size.rise }),
    [sites, width, size],
  );
  const walk = (event: React.KeyboardEvent) => {
    const to = walked(event.key, at, bars.length);
    if (to !== undefined) {
      event.preventDefault();
      setAt(to);
    } else if (event.key === "Enter" && bars[at]) {
      go(`/sites/${bars[at].site.id}`);
    }
  };
  const current = bars[at];
  return (
    <section className="belt" aria-label="Belt">
      <div ref={box} className="relative min-w-0">
        <svg
          width={width}
          height={size.height}
          viewBox={`0 0 ${width} ${size.height}`}
          role="listbox"
          aria-label={`The fleet: ${plural(sites.length, "site")} on ${plural(grounds.length, "host")}. Arrow keys walk it, Enter opens.`}
          aria-activedescendant={current ? `bar-${current.site.id}` : undefined}
          tabIndex={0}
          onKeyDown={walk}
          onFocus={() => at < 0 && setAt(0)}
          onBlur={() => setAt(-1)}
        >
          {big && <Scale width={width} />}
          <g className={subjects?.length ? "brushed" : ""}>
            {bars.map((bar, index) => (
              <Tree
                key={bar.site.id}
                bar={bar}
                size={size}
                dense={dense}
                at={index === at}
                subject={subjects?.includes(bar.site.id) ?? false}
                onOpen={() => go(`/sites/${bar.site.id}`)}
              />
            ))}
          </g>
          {grounds.map((ground) => (
            <line
              key={ground.host}
              className="ground"
              x1={ground.from}
              x2={ground.to}
              y1={size.ground}
              y2={size.ground}
            />
          ))}
          {hostNames(grounds, width, size.ground + size.names).map((sign) => (
            <Name key={sign.text} sign={sign} />
          ))}
          {big &&
            !dense &&
            siteNames(bars, { width, base: BIG.base, reach: NAME_REACH, top: TOP }).map((sign) => (
              <Name key={sign.text} sign={sign} className="nm" />
            ))}
        </svg>
        {current && (
          <p className="note absolute top-0 right-0" aria-live="polite">
            {label(current)}
          </p>
        )}
      </div>
      {children}
    </section>
  );
}

const NAME_REACH = 48;
const TOP = 20; // below the scale's own word

function Name({ sign, className }: { sign: Sign; className?: string }) {
  return (
    <text className={className} x={sign.x} y={sign.y} textAnchor={sign.anchor}>
      {sign.text}
    </text>
  );
}

function Scale({ width }: { width: number }) {
  return (
    <>
      <text x="0" y="9">
        moves waiting
      </text>
      {[1, 4, 16].map((moves) => {
        const y = BIG.base - heightOf(moves, BIG.rise);
        return (
          <g key={moves}>
            <text x="0" y={y + 4}>
              {moves}
            </text>
            <line className="axis" x1="16" x2={width} y1={y} y2={y} />
          </g>
        );
      })}
    </>
  );
}

function Tree({
  bar,
  size,
  dense,
  at,
  subject,
  onOpen,
}: {
  bar: Bar;
  size: typeof BIG;
  dense: boolean;
  at: boolean;
  subject: boolean;
  onOpen: () => void;
}) {
  const { base } = size;
  const half = bar.width / 2;
  return (
    <g
      id={`bar-${bar.site.id}`}
      className={`tree is-${bar.state}${subject ? " is-subject" : ""}${at ? " at" : ""}`}
      role="option"
      aria-selected={at}
      aria-label={label(bar)}
      onClick={onOpen}
    >
      <title>{label(bar)}</title>
      <rect className="hit" x={bar.x - half - 3} y="12" width={bar.width + 6} height={base - 6} />
      {!dense && <rect className="tr" x={bar.x - 1} y={base} width="2" height={size.trunk} />}
      {dense ? <Plain bar={bar} base={base} /> : <Shape tree={bar} base={base} />}
      {subject && (
        <path
          className="pointer"
          d={`M${bar.x} ${size.ground + 2}l4 6h-8Z`}
        />
      )}
    </g>
  );
}

/** A bar among hundreds: its tone, and a raised mark where something is wrong. */
function Plain({ bar, base }: { bar: Bar; base: number }) {
  const half = bar.width / 2;
  const height = Math.max(bar.height, 3);
  const wrong = bar.state === "exposed" || bar.state === "failed";
  return (
    <>
      <rect className="b" x={bar.x - half} y={base - height} width={bar.width} height={height} />
      {wrong && (
        <>
          <line className="x" x1={bar.x} x2={bar.x} y1={base - height} y2={22} />
          {bar.state === "exposed" ? (
            <path className="k" d={`M${bar.x} 12l5.5 5.5-5.5 5.5-5.5-5.5Z`} />
          ) : (
            <path className="x" d={`M${bar.x - 3.5} 14l7 7M${bar.x + 3.5} 14l-7 7`} />
          )}
        </>
      )}
    </>
  );
}
