import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useState } from "react";
import { type Cell, type Chart, LEFT, layout, TOP } from "./layout";

/** The charts of a plan, one at a time: which versions go together, and the way through. */
export function Charts({ charts }: { charts: Chart[] }) {
  if (charts.length === 0) return null;
  return (
    <section aria-label="Charts" className="pb-3">
      <TabGroup>
        <TabList className="pairs">
          {charts.map((chart) => (
            <Tab key={nameOf(chart)} className="pair">
              {nameOf(chart)}
            </Tab>
          ))}
        </TabList>
        <TabPanels>
          {charts.map((chart) => (
            <TabPanel key={nameOf(chart)}>
              <Drawn chart={chart} />
            </TabPanel>
          ))}
        </TabPanels>
      </TabGroup>
    </section>
  );
}

function nameOf(chart: Chart): string {
  return `${chart.across.name} and ${chart.down.name}`;
}

function Drawn({ chart }: { chart: Chart }) {
  const [said, setSaid] = useState<string | null>(null);
  const at = layout(chart, 592);
  const { cell } = at;
  return (
    <>
      <svg className="chart" width={at.width} height={at.height} role="img" aria-label={chart.text}>
        <defs>
          <pattern id="hatched" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <line x1="0" y1="0" x2="0" y2="7" stroke="var(--line-strong)" strokeWidth="1.6" />
          </pattern>
          <pattern id="dotted" width="6" height="6" patternUnits="userSpaceOnUse">
            <circle cx="1.5" cy="1.5" r="0.9" fill="var(--line-strong)" />
          </pattern>
        </defs>
        <text className="a" x={LEFT} y="12">
          {chart.across.name}
        </text>
        <text className="a" x="0" y="36">
          {short(chart.down.name, 9)}
        </text>
        {chart.across.versions.map((version, column) => (
          <text key={version} x={LEFT + (column + 0.5) * cell.width} y="36" textAnchor="middle">
            {version}
          </text>
        ))}
        {chart.across.notes.map((note, column) =>
          note ? (
            <text
              key={chart.across.versions[column]}
              className="s"
              x={LEFT + (column + 0.5) * cell.width}
              y="20"
              textAnchor="middle"
            >
              {short(note, 18)}
            </text>
          ) : null,
        )}
        {chart.down.versions.map((version, row) => (
          <text key={version} x="0" y={TOP + (row + 0.5) * cell.height + 4}>
            {version}
          </text>
        ))}
        {chart.cells.map((line, row) =>
          line.map((one, column) => (
            <Square
              key={`${String(row)} ${String(column)}`}
              cell={one}
              x={LEFT + column * cell.width}
              y={TOP + row * cell.height}
              width={cell.width}
              height={cell.height}
              onSaid={setSaid}
            />
          )),
        )}
        <Path at={at} />
      </svg>
      <p className="legend" aria-hidden="true">
        <Key state="works" /> works
        <Key state="forbidden" /> does not go together
        <Key state="not to be had" /> not to be had
        <svg width="26" height="10">
          <line x1="0" x2="26" y1="5" y2="5" stroke="var(--accent)" strokeWidth="2.5" />
        </svg>{" "}
        this plan
      </p>
      <p className="told" aria-live="polite">
        {said ?? chart.text}
      </p>
      <AsTable chart={chart} />
    </>
  );
}

function Square({
  cell,
  x,
  y,
  width,
  height,
  onSaid,
}: {
  cell: Cell;
  x: number;
  y: number;
  width: number;
  height: number;
  onSaid: (text: string | null) => void;
}) {
  const over = { forbidden: "url(#hatched)", "not to be had": "url(#dotted)", works: "none" }[cell.state];
  const ground = cell.state === "works" ? "var(--sheet)" : "var(--shade)";
  return (
    <g onMouseEnter={() => onSaid(cell.why || null)} onMouseLeave={() => onSaid(null)}>
      <rect x={x} y={y} width={width} height={height} fill={ground} stroke="var(--line)" />
      <rect x={x} y={y} width={width} height={height} fill={over} />
    </g>
  );
}

/** The way from today to where the plan ends, each step with its number. */
function Path({ at }: { at: ReturnType<typeof layout> }) {
  const points = at.stops.map((s) => `${String(s.x)},${String(s.y)}`).join(" ");
  const [first, last] = [at.stops[0], at.stops.at(-1)];
  return (
    <g aria-hidden="true" pointerEvents="none">
      <polyline points={points} fill="none" stroke="var(--accent)" strokeWidth="2.5" strokeLinejoin="round" />
      {at.stops.slice(1, -1).map((s) => (
        <circle key={s.step} cx={s.x} cy={s.y} r="4" fill="var(--paper)" stroke="var(--accent)" strokeWidth="2" />
      ))}
      {first && <circle cx={first.x} cy={first.y} r="6" fill="var(--paper)" stroke="var(--accent)" strokeWidth="2.5" />}
      {last && at.stops.length > 1 && <circle cx={last.x} cy={last.y} r="6.5" fill="var(--accent)" />}
      {first && (
        <text className="e" x={first.x} y={first.y - 11} textAnchor="middle">
          today
        </text>
      )}
      {last && at.stops.length > 1 && (
        <text className="e" x={last.x} y={last.y - 11} textAnchor="middle">
          target
        </text>
      )}
      {at.steps.map((s) => (
        <g key={s.step}>
          <circle cx={s.x} cy={s.y} r="9" fill="var(--accent)" />
          <text className="n" x={s.x} y={s.y + 4} textAnchor="middle">
            {s.step}
          </text>
        </g>
      ))}
    </g>
  );
}

function Key({ state }: { state: Cell["state"] }) {
  return (
    <svg width="16" height="14" className="ml-4 mr-1 inline first:ml-0">
      <rect
        x="0.5"
        y="0.5"
        width="15"
        height="13"
        fill={state === "works" ? "var(--sheet)" : "var(--shade)"}
        stroke="var(--line-strong)"
      />
      {state !== "works" && (
        <rect x="0.5" y="0.5" width="15" height="13" fill={state === "forbidden" ? "url(#hatched)" : "url(#dotted)"} />
      )}
    </svg>
  );
}

/** The same for who can't see the drawing. A table is as wide as its words, so what hides it is around it. */
function AsTable({ chart }: { chart: Chart }) {
  return (
    <div className="sr-only">
      <table>
        <caption>
          {chart.across.name} across, {chart.down.name} down. {chart.text}
        </caption>
        <thead>
          <tr>
            <th scope="col">{chart.down.name}</th>
            {chart.across.versions.map((version, column) => (
              <th key={version} scope="col">
                {chart.across.name} {version}
                {chart.across.notes[column] && `, ${chart.across.notes[column]}`}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {chart.cells.map((line, row) => (
            <tr key={chart.down.versions[row]}>
              <th scope="row">
                {chart.down.versions[row]}
                {chart.down.notes[row] && `, ${chart.down.notes[row]}`}
              </th>
              {line.map((one, column) => (
                <td key={chart.across.versions[column]}>{one.why || "works"}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function short(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, most - 1)}…` : text;
}
