import { useState } from "react";
import { clock, day } from "../../pieces/time";
import { type Bar, type Drawn, GUTTER, keyOf, type Lane, type Night, type Nights, ROW, stepped } from "./layout";
import { look, spoken } from "./state";

/** The nights as a drawing, with a button over each booking. */
export function Picture({
  picture,
  nights,
  width,
  current,
  onPick,
}: {
  picture: Drawn;
  nights: Nights;
  width: number;
  current: Night | undefined;
  onPick: (key: string) => void;
}) {
  const { columns, lanes, brackets, top, height, now } = picture;
  const bars = lanes.flatMap((lane) => lane.bars);
  const at = Math.max(0, bars.findIndex((bar) => current && bar.key === keyOf(current)));
  const [walked, setWalked] = useState(false);
  const walk = (event: React.KeyboardEvent<HTMLDivElement>) => {
    const to = stepped(bars, at, event.key);
    const bar = to === undefined ? undefined : bars[to];
    if (!bar) return;
    event.preventDefault();
    setWalked(true);
    onPick(bar.key);
    event.currentTarget.querySelectorAll("button")[to ?? 0]?.focus();
  };
  return (
    <div className="nights" style={{ height }}>
      <svg width={width} height={height} viewBox={`0 0 ${width} ${height}`} aria-hidden="true">
        <defs>
          <pattern id="hatch" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <line x1="0" x2="0" y1="0" y2="7" className="hatch" />
          </pattern>
        </defs>
        {lanes.map((lane) => (
          <Ground key={lane.host.id ?? ""} lane={lane} />
        ))}
        {columns.map((column) => (
          <g key={column.start}>
            <text className="h" x={column.x} y="12">
              {day(new Date(column.start)).slice(0, 6)}
            </text>
            <text className="s" x={column.x + 52} y="12">
              to {day(new Date(column.start + 86_400_000)).slice(0, 3)}
            </text>
            {column.hours.map((hour) => (
              <g key={hour.at}>
                <text className="m" x={hour.x} y={top - 8} textAnchor="middle">
                  {clock(new Date(hour.at)).slice(0, 2)}
                </text>
                <line className="hour" x1={hour.x} x2={hour.x} y1={top} y2={height} />
              </g>
            ))}
            <line className="edge" x1={column.x} x2={column.x} y1={top} y2={height} />
          </g>
        ))}
        {brackets.map((bracket) => (
          <g key={bracket.key} className={bracket.kind}>
            <path
              d={
                bracket.kind === "wave"
                  ? `M${bracket.x} ${34 + bracket.y * 18}v-4h${bracket.width}v4`
                  : `M${bracket.x + 3} ${30 + bracket.y * 18}h${bracket.width - 6}`
              }
            />
            {bracket.kind === "wave" && (
              <text x={bracket.x + 2} y={27 + bracket.y * 18}>
                {bracket.text.slice(0, Math.floor(bracket.width / 6.2))}
              </text>
            )}
          </g>
        ))}
        {lanes.map((lane) => (
          <g key={lane.host.id ?? ""}>
            <line className="lane" x1="0" x2={width} y1={lane.y} y2={lane.y} />
            <text className="h" x="0" y={lane.y + 17}>
              {lane.host.name}
            </text>
            <text className="s" x="0" y={lane.y + 32}>
              {lane.host.at_once === null ? "" : `${lane.host.at_once} at a time`}
            </text>
            {lane.bars.map((bar) => (
              <Mark key={bar.key} bar={bar} at={current !== undefined && bar.key === keyOf(current)} />
            ))}
            {lane.more.map((more) => (
              <text key={more.x} className="s" x={more.x} y={more.y}>
                and {more.count} more
              </text>
            ))}
          </g>
        ))}
        <line className="lane" x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} />
        {now !== null && now > GUTTER && (
          <g className="now">
            <line x1={now} x2={now} y1={top - 19} y2={height} />
            <rect x={now - 29} y={top - 19} width="58" height="15" />
            <text x={now} y={top - 8} textAnchor="middle">
              now {clock(nights.at)}
            </text>
          </g>
        )}
      </svg>
      <div
        role="group"
        aria-label={`${bars.length} bookings. Arrow keys walk them.`}
        onKeyDown={walk}
      >
        {bars.map((bar, index) => (
          <button
            key={bar.key}
            className="over-bar"
            style={{ left: bar.x - 2, top: bar.y, width: bar.width + 8 + bar.label.length * 6.6, height: ROW }}
            tabIndex={index === at ? 0 : -1}
            aria-label={spoken(bar.night)}
            aria-pressed={current !== undefined && bar.key === keyOf(current)}
            title={walked ? undefined : bar.night.why}
            onClick={() => onPick(bar.key)}
            onFocus={() => onPick(bar.key)}
          />
        ))}
      </div>
    </div>
  );
}

function Ground({ lane }: { lane: Lane }) {
  return (
    <>
      {lane.windows.map((band) => (
        <rect key={band.x} className="opened" x={band.x} y={band.y} width={band.width} height={band.height} />
      ))}
      {lane.frozen.map((band) => (
        <g key={`${band.x} ${band.y}`}>
          <rect fill="url(#hatch)" x={band.x} y={band.y} width={band.width} height={band.height} />
          {band.text && (
            <>
              <rect className="paper" x={band.x} y={band.y + (band.all ? 10 : 0)} width={Math.min(band.text.length * 6.1 + 10, 420)} height="15" />
              <text className="s2" x={band.x + 4} y={band.y + (band.all ? 21 : 11)}>
                {band.text.slice(0, 66)}
              </text>
            </>
          )}
        </g>
      ))}
    </>
  );
}

function Mark({ bar, at }: { bar: Bar; at: boolean }) {
  const kind = look(bar.night);
  const wide = bar.width + 8 + bar.label.length * 6.6;
  return (
    <g className={`bar ${kind}${at ? " at" : ""}`}>
      {at && <rect className="picked" x={bar.x - 4} y={bar.y + 1} width={wide + 6} height={ROW - 2} />}
      <rect className="b" x={bar.x + 0.75} y={bar.y + 7} width={bar.width - 1.5} height="10" />
      {kind === "full" && <rect className="tick" x={bar.x} y={bar.y + 6} width="2.5" height="12" />}
      {kind === "failed" && <path className="x" d={`M${bar.x - 9} ${bar.y + 8}l7 7m0-7l-7 7`} />}
      <text x={bar.x + bar.width + 6} y={bar.y + 16}>
        {bar.label}
      </text>
    </g>
  );
}
