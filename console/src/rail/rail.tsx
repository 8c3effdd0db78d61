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
  /** What followed when it failed: it hangs off on short arms, and the line ends. */
  arms?: readonly Arm[];
}

export interface Arm {
  key: string;
  kind: "broken" | "back" | "page" | "fine";
  text: string;
  aside: string;
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
                <Line
                  from="10"
                  to="100%"
                  later={items[index + 1]?.later ?? false}
                  broken={(item.arms?.length ?? 0) > 0}
                />
              )}
              <Drawn mark={item.mark} />
            </svg>
          </div>
          <div>{item.content}</div>
          <div className="t">{item.aside}</div>
          {item.arms && item.arms.length > 0 && <Arms arms={item.arms} />}
        </li>
      ))}
    </ol>
  );
}

interface LineProps {
  from: string;
  to: string;
  later: boolean;
  broken?: boolean;
}

function Line({ from, to, later, broken = false }: LineProps) {
  const solid = broken || !later;
  return (
    <line
      x1="20"
      x2="20"
      y1={from}
      y2={to}
      stroke={broken ? "var(--alarm)" : later ? "var(--line-strong)" : "var(--ink)"}
      strokeWidth={broken ? 2 : later ? 1.3 : 1.5}
      strokeDasharray={solid ? undefined : "2 3"}
    />
  );
}

function Arms({ arms }: { arms: readonly Arm[] }) {
  return (
    <ul className="arms" aria-label="What followed">
      {arms.map((arm) => (
        <li key={arm.key} className={`is-${arm.kind}`}>
          <svg className="g" viewBox="0 0 12 12" role="img" aria-label={ARMS[arm.kind].word}>
            {ARMS[arm.kind].draw}
          </svg>
          <span>{arm.text}</span>
          <span className="t">{arm.aside}</span>
        </li>
      ))}
    </ul>
  );
}

const ARMS: Record<Arm["kind"], { word: string; draw: React.ReactNode }> = {
  broken: { word: "broken", draw: <path d="M2 2l8 8M10 2l-8 8" strokeWidth="2.3" /> },
  back: { word: "put back", draw: <path d="M10.5 1v5.5H2.5M5.5 3.2 2.2 6.5l3.3 3.3" strokeWidth="1.5" /> },
  page: { word: "page up", draw: <path d="M1 2.2h10M1 6h10M1 9.8h10" strokeWidth="1.9" /> },
  fine: { word: "as before", draw: <path d="M1 9.5h10M6 2.6v4M4 4.6h4" strokeWidth="1.6" /> },
};

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
