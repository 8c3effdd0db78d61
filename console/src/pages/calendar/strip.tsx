import { day } from "../../pieces/time";
import { keyOf, type Nights, stripOf } from "./layout";
import { look } from "./state";

/** The whole week above the list of a narrow page: seen, not read; the list tells the same. */
export function Strip({ nights, width }: { nights: Nights; width: number }) {
  const { columns, lanes, top, height, now } = stripOf(nights, width);
  return (
    <svg className="strip" width={width} height={height + 1} aria-hidden="true">
      {columns.map((column) => (
        <g key={column.start}>
          <rect className="ground" x={column.x} y={top} width={column.width} height={height - top} />
          <text x={column.x} y="10">
            {day(new Date(column.start)).slice(0, 3)}
          </text>
          <text className="date" x={column.x} y="20">
            {day(new Date(column.start)).slice(4, 6)}
          </text>
        </g>
      ))}
      {lanes.map((lane) => (
        <g key={lane.name}>
          <text x="0" y={lane.y + 11}>
            {lane.name.slice(0, 7)}
          </text>
          <line x1="0" x2={width} y1={lane.y + lane.height} y2={lane.y + lane.height} />
          {lane.frozen.map((band) => (
            <rect key={band.x} className="frost" x={band.x} y={band.y} width={band.width} height={band.height} />
          ))}
          {lane.marks.map((mark) => (
            <rect key={keyOf(mark.night)} className={`mark ${look(mark.night)}`} x={mark.x + 0.5} y={mark.y + 0.5} width={mark.width - 1} height={mark.height - 1} />
          ))}
        </g>
      ))}
      {now !== null && <path className="now" d={`M${now} ${top}V${height}`} />}
    </svg>
  );
}
