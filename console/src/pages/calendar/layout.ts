/** The nights laid out: columns of hours, hosts as lanes, each booking a bar with its name. No React
 * here; all lengths are in pixels of the drawing. */
import type { Schemas } from "../../api/client";

export type Nights = Schemas["Calendar"];
export type Night = Schemas["NightBooking"];

const HOUR = 3_600_000;
export const GUTTER = 104;
export const ROW = 24;
const GAP = 12; // between two nights
const LANE_TOP = 6;
const LANE_LEAST = 40;
const LETTER = 6.6; // about how wide a letter of a name is
const LEAST_BAR = 5;
export const MOST_ROWS = 12; // in a lane of a night; more are counted

/** One night: when it begins, and its hours as a stretch of the drawing. */
export interface Column {
  start: number;
  x: number;
  width: number;
  hours: { at: number; x: number }[];
}

export interface Bar {
  key: string;
  night: Night;
  x: number;
  y: number;
  width: number;
  label: string;
}

export interface Band {
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Frost extends Band {
  text: string;
  all: boolean; // of the whole lane, not of one site
}

export interface Lane {
  host: Nights["hosts"][number];
  y: number;
  height: number;
  windows: Band[];
  frozen: Frost[];
  bars: Bar[];
  more: { x: number; y: number; count: number }[];
}

export interface Drawn {
  columns: Column[];
  lanes: Lane[];
  brackets: Bracket[];
  top: number;
  height: number;
  now: number | null;
}

/** A wave over a night, or a gate between waves. */
export interface Bracket {
  key: string;
  kind: "wave" | "gate";
  x: number;
  width: number;
  y: number;
  text: string;
}

export const keyOf = (night: Night) => `${night.site} ${night.booking ?? ""} ${night.run ?? ""}`;

/** The hours of the night (from noon on) between which anything can be done, whole ones, and two
 * at the least on each side. */
export function hoursOf(nights: Nights): [number, number] {
  const from = Date.parse(nights.start);
  const within = (at: string) => (((Date.parse(at) - from) % (24 * HOUR)) + 24 * HOUR) % (24 * HOUR);
  const opens = nights.opened.map((span) => within(span.start));
  const closes = nights.opened.map((span, n) => (opens[n] ?? 0) + Date.parse(span.end) - Date.parse(span.start));
  for (const night of nights.bookings) {
    opens.push(within(night.starts_at));
    closes.push(within(night.starts_at) + Date.parse(night.back_until) - Date.parse(night.starts_at));
  }
  if (!opens.length) return [11, 19];
  const first = Math.max(0, Math.floor(Math.min(...opens) / HOUR) - 1);
  const last = Math.min(24, Math.ceil(Math.max(...closes) / HOUR) + 1);
  return [first, Math.max(first + 4, last)];
}

export function columnsOf(nights: Nights, width: number, gutter = GUTTER, gap = GAP): Column[] {
  const from = Date.parse(nights.start);
  const count = Math.max(1, Math.round((Date.parse(nights.end) - from) / (24 * HOUR)));
  const [first, last] = hoursOf(nights);
  const each = (width - gutter) / count;
  const step = last - first > 8 ? 4 : 2;
  return Array.from({ length: count }, (_, n) => {
    const start = from + n * 24 * HOUR;
    const x = gutter + n * each;
    const wide = each - gap;
    const hours = [];
    for (let hour = Math.ceil(first / step) * step; hour < last; hour += step)
      hours.push({ at: start + hour * HOUR, x: x + ((hour - first) / (last - first)) * wide });
    return { start, x, width: wide, hours };
  });
}

/** Where an instant lies in a night's column; outside of its hours it is at its edge. */
export function place(column: Column, hours: [number, number], at: number): number {
  const into = (at - column.start) / HOUR;
  const share = (into - hours[0]) / (hours[1] - hours[0]);
  return column.x + Math.min(1, Math.max(0, share)) * column.width;
}

const nightOf = (columns: Column[], at: number) =>
  columns.find((column) => at >= column.start && at < column.start + 24 * HOUR);

function bands(columns: Column[], hours: [number, number], start: number, end: number): { x: number; width: number }[] {
  return columns
    .filter((column) => start < column.start + 24 * HOUR && end > column.start)
    .map((column) => {
      const x = place(column, hours, start);
      return { x, width: place(column, hours, end) - x };
    })
    .filter((band) => band.width > 0.5);
}

/** Bars packed into rows: each in the first row where it and its name do not touch another. */
function packed(column: Column, hours: [number, number], nights: Night[], y: number): { bars: Bar[]; hidden: number } {
  const ends: number[] = [];
  const bars: Bar[] = [];
  let hidden = 0;
  for (const night of nights) {
    const x = place(column, hours, Date.parse(night.starts_at));
    const width = Math.max(LEAST_BAR, place(column, hours, Date.parse(night.ends_at)) - x);
    const room = Math.floor((column.x + column.width + GAP / 2 - x - width - 6) / LETTER);
    const label = shortened(night.label, room);
    const end = x + width + 8 + label.length * LETTER;
    const row = [...ends.keys(), ends.length].find((n) => (ends[n] ?? -1) <= x) ?? ends.length;
    if (row >= MOST_ROWS) {
      hidden += 1;
      continue;
    }
    ends[row] = end;
    bars.push({ key: keyOf(night), night, x, y: y + row * ROW, width, label });
  }
  return { bars, hidden };
}

/** A name cut to so many letters; a twin stays told as one. */
export function shortened(label: string, letters: number): string {
  if (label.length <= letters) return label;
  const twin = label.endsWith(", twin");
  const first = label.split(/[ ,]/, 1)[0] ?? label;
  const short = twin ? `${first}, twin` : first;
  return short.length <= letters ? short : `${short.slice(0, Math.max(1, letters - 1))}…`;
}

export function drawn(nights: Nights, width: number): Drawn {
  const hours = hoursOf(nights);
  const columns = columnsOf(nights, width);
  const brackets = bracketsOf(nights, columns, hours);
  const rows = Math.max(0, ...brackets.map((one) => one.y + 1));
  const top = 48 + rows * 18;
  let y = top;
  const lanes: Lane[] = [];
  for (const host of nights.hosts) {
    const here = nights.bookings.filter((night) => night.host === host.id);
    const frozen = nights.frozen.filter((one) => one.hosts.includes(host.id));
    const everywhere = frozen.filter((one) => !one.site && !one.client);
    const apart = frozen.filter((one) => one.site || one.client);
    const bars: Bar[] = [];
    const more: Lane["more"] = [];
    let tall = 0;
    for (const column of columns) {
      const night = here.filter((one) => nightOf(columns, Date.parse(one.starts_at)) === column);
      const { bars: some, hidden } = packed(column, hours, night, y + LANE_TOP);
      bars.push(...some);
      const last = Math.max(0, ...some.map((bar) => bar.y - y - LANE_TOP + ROW));
      if (hidden) more.push({ x: column.x + 4, y: y + LANE_TOP + last + 12, count: hidden });
      tall = Math.max(tall, last + (hidden ? ROW : 0));
    }
    const height = Math.max(LANE_LEAST, LANE_TOP * 2 + tall + apart.length * 16);
    lanes.push({
      host,
      y,
      height,
      windows: nights.opened
        .filter((one) => one.host === host.id)
        .flatMap((one) => bands(columns, hours, Date.parse(one.start), Date.parse(one.end)))
        .map((band) => ({ ...band, y, height })),
      frozen: [
        ...everywhere.flatMap((one) => frost(columns, hours, one, { y, height }, true)),
        ...apart.flatMap((one, n) =>
          frost(columns, hours, one, { y: y + height - 16 * (apart.length - n), height: 15 }, false),
        ),
      ],
      bars,
      more,
    });
    y += height;
  }
  const now = Date.parse(nights.at);
  const tonight = nightOf(columns, now);
  return { columns, lanes, brackets, top, height: y, now: tonight ? place(tonight, hours, now) : null };
}

function frost(
  columns: Column[],
  hours: [number, number],
  one: Nights["frozen"][number],
  row: { y: number; height: number },
  all: boolean,
): Frost[] {
  const text = all ? `Frozen: ${one.reason}` : `${one.where}: ${one.reason}`;
  return bands(columns, hours, Date.parse(one.start), Date.parse(one.end)).map((band, n) => ({
    ...band,
    ...row,
    text: n === 0 ? text : "",
    all,
  }));
}

const WAVES = { twin: ["twin", "twins"], canary: ["canary", "canaries"], rest: ["more", "more"] } as const;

/** Above the nights: of each rollout its waves, and the gates between them. */
function bracketsOf(nights: Nights, columns: Column[], hours: [number, number]): Bracket[] {
  const rollouts = [...new Set(nights.bookings.filter((one) => one.rollout != null).map((one) => one.rollout))];
  const found: Bracket[] = [];
  rollouts.slice(0, 3).forEach((rollout, row) => {
    for (const column of columns) {
      const here = nights.bookings.filter(
        (one) => one.rollout === rollout && nightOf(columns, Date.parse(one.starts_at)) === column,
      );
      const waves = (["twin", "canary", "rest"] as const)
        .map((wave) => [wave, here.filter((one) => one.wave === wave).length] as const)
        .filter(([, count]) => count > 0);
      if (!waves.length) continue;
      const text = waves.map(([wave, count]) => `${count} ${WAVES[wave][count === 1 ? 0 : 1]}`).join(", ");
      found.push({ key: `${rollout} ${column.start}`, kind: "wave", x: column.x, width: column.width, y: row, text });
    }
    for (const gate of nights.gates.filter((one) => one.rollout === rollout && one.label === "Canaries")) {
      const from = nightOf(columns, Date.parse(gate.start));
      const to = nightOf(columns, Date.parse(gate.end));
      if (!from) continue;
      const x = from.x + from.width;
      const end = to ? Math.max(place(to, hours, Date.parse(gate.end)), to.x) : x + GAP;
      found.push({ key: `gate ${rollout} ${gate.label}`, kind: "gate", x, width: Math.max(GAP, end - x), y: row, text: `gate: ${gate.text}` });
    }
  });
  return found;
}

const STRIP = { gutter: 46, gap: 4, top: 24, row: 6, mark: 5, most: 5 };

export interface Strip {
  columns: Column[];
  lanes: { name: string; y: number; height: number; marks: (Band & { night: Night })[]; frozen: Band[] }[];
  top: number;
  height: number;
  now: number | null;
}

/** The same nights as a strip for a narrow page: a mark for each booking, without names. */
export function stripOf(nights: Nights, width: number): Strip {
  const hours = hoursOf(nights);
  const columns = columnsOf(nights, width, STRIP.gutter, STRIP.gap);
  let y = STRIP.top;
  const lanes = nights.hosts.map((host) => {
    const marks = columns.flatMap((column) => {
      const ends: number[] = [];
      const here = nights.bookings.filter((one) => one.host === host.id && nightOf(columns, Date.parse(one.starts_at)) === column);
      return here.flatMap((night) => {
        const start = place(column, hours, Date.parse(night.starts_at));
        const wide = Math.max(STRIP.mark, place(column, hours, Date.parse(night.ends_at)) - start);
        const x = Math.min(start, column.x + column.width - wide);
        const row = [...ends.keys(), ends.length].find((n) => (ends[n] ?? -1) <= x) ?? ends.length;
        if (row >= STRIP.most) return [];
        ends[row] = x + wide + 1;
        return [{ x, y: y + 3 + row * STRIP.row, width: wide, height: STRIP.mark, night }];
      });
    });
    const tall = Math.max(0, ...marks.map((mark) => mark.y + mark.height - y));
    const height = Math.max(14, tall + 3);
    const frozen = nights.frozen
      .filter((one) => one.hosts.includes(host.id) && !one.site && !one.client)
      .flatMap((one) => bands(columns, hours, Date.parse(one.start), Date.parse(one.end)))
      .map((band) => ({ ...band, y, height }));
    const lane = { name: host.name, y, height, marks, frozen };
    y += height;
    return lane;
  });
  const now = Date.parse(nights.at);
  const tonight = nightOf(columns, now);
  return { columns, lanes, top: STRIP.top, height: y, now: tonight ? place(tonight, hours, now) : null };
}

/** Where the walker among bookings is after a key; undefined for a key that does not walk. */
export function stepped(bars: Bar[], at: number, key: string): number | undefined {
  const here = bars[at];
  if (!here) return undefined;
  const near = (fits: (bar: Bar) => boolean, far: (bar: Bar) => number) => {
    const found = bars.map((bar, n) => [n, bar] as const).filter(([, bar]) => fits(bar));
    found.sort(([, a], [, b]) => far(a) - far(b));
    return found[0]?.[0] ?? at;
  };
  const away = (bar: Bar) => Math.abs(bar.x - here.x) + Math.abs(bar.y - here.y) * 3;
  switch (key) {
    case "ArrowRight":
      return near((bar) => bar.x > here.x + 1, (bar) => bar.x - here.x + Math.abs(bar.y - here.y) * 3);
    case "ArrowLeft":
      return near((bar) => bar.x < here.x - 1, (bar) => here.x - bar.x + Math.abs(bar.y - here.y) * 3);
    case "ArrowDown":
      return near((bar) => bar.y > here.y, away);
    case "ArrowUp":
      return near((bar) => bar.y < here.y, away);
    case "Home":
      return 0;
    case "End":
      return bars.length - 1;
    default:
      return undefined;
  }
}
