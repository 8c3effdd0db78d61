/** The rail: guards, moves, waypoints, combined steps. Plan and run share this drawing. */

export type Mark =
  | { kind: "guard"; done?: boolean }
  | { kind: "move" | "waypoint" | "combined"; number: number; state: StepState };

export type StepState = "planned" | "to come" | "running" | "done" | "failed" | "put back";

export interface RailItem {
  key: string;
  mark: Mark;
  later?: boolean;
  content: React.ReactNode;
  aside?: React.ReactNode;
}

export function Rail({ items, label }: { items: RailItem[]; label: string }) {
  return (
    <ol className="rail" aria-label={label}>
      {items.map((item, index) => (
        <li
          key={item.key}
          className={`${item.later ? "later" : ""} ${item.mark.kind === "combined" ? "combined" : ""}`}
        >
          <div className="dot" aria-hidden="true">
            <svg>
              {index > 0 && <Line from="0" to="10" later={item.later ?? false} />}
              {index < items.length - 1 && (
                <Line from="10" to="100%" later={items[index + 1]?.later ?? false} />
              )}
              <Drawn mark={item.mark} />
            </svg>
          </div>
          <div>{item.content}</div>
          <div className="t">{item.aside}</div>
        </li>
      ))}
    </ol>
  );
}

function Line({ from, to, later }: { from: string; to: string; later: boolean }) {
  return (
    <line
      x1="20"
      x2="20"
      y1={from}
      y2={to}
      stroke={later ? "var(--line-strong)" : "var(--ink)"}
      strokeWidth={later ? 1.3 : 1.5}
      strokeDasharray={later ? "2 3" : undefined}
    />
  );
}

function Drawn({ mark }: { mark: Mark }) {
  if (mark.kind === "guard") {
    const fill = mark.done ? "var(--ink)" : "var(--paper)";
    return <circle cx="20" cy="10" r="3.5" fill={fill} stroke="var(--still)" strokeWidth="1.5" />;
  }
  const { number, state } = mark;
  const tone =
    state === "failed" || state === "put back"
      ? "var(--alarm)"
      : state === "to come"
        ? "var(--still)"
        : state === "running"
          ? "var(--wait)"
          : mark.kind === "move"
            ? "var(--ink)"
            : "var(--accent)";
  const hollow = mark.kind === "waypoint" || state === "to come" || state === "running";
  const fill = state === "running" ? "var(--wait-tint)" : hollow ? "var(--paper)" : tone;
  return (
    <>
      {mark.kind === "combined" ? (
        <rect
          x="10.5"
          y="0.5"
          width="19"
          height="38"
          rx="9.5"
          fill={fill}
          stroke={tone}
          strokeWidth={hollow ? 2 : 0}
        />
      ) : (
        <circle cx="20" cy="10" r="9" fill={fill} stroke={tone} strokeWidth={hollow ? 2 : 1} />
      )}
      <text x="20" y={mark.kind === "combined" ? 24 : 14} fill={hollow ? tone : "var(--paper)"}>
        {number}
      </text>
    </>
  );
}
