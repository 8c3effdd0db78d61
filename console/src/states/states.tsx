import type { State } from "../api/client";

/** Every state's glyph, word and tone come from here and nowhere else. Worst first. */
export const STATES: Record<State, { word: string; draw: React.ReactNode }> = {
  exposed: {
    word: "exposed",
    draw: (
      <path
        fillRule="evenodd"
        d="M6 0 12 6 6 12 0 6ZM6 4.1A1.9 1.9 0 1 0 6 7.9 1.9 1.9 0 1 0 6 4.1Z"
        fill="currentColor"
      />
    ),
  },
  failed: {
    word: "failed",
    draw: (
      <path
        d="M2 2l8 8M10 2l-8 8"
        stroke="currentColor"
        strokeWidth="2.3"
        fill="none"
        strokeLinecap="square"
      />
    ),
  },
  blocked: {
    word: "blocked",
    draw: <path d="M.8 1.4h10.4v3.4H.8ZM4.4 6.2h3.2V11H4.4Z" fill="currentColor" />,
  },
  unknown: {
    word: "unknown",
    draw: (
      <circle
        cx="6"
        cy="6"
        r="4.7"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.7"
        strokeDasharray="1.9 1.79"
      />
    ),
  },
  running: {
    word: "running",
    draw: (
      <>
        <path
          d="M6 1.3A4.7 4.7 0 1 1 1.3 6"
          stroke="currentColor"
          strokeWidth="1.6"
          fill="none"
        />
        <circle cx="6" cy="6" r="2" fill="currentColor" />
      </>
    ),
  },
  waiting: {
    word: "waiting",
    draw: (
      <>
        <circle cx="6" cy="6" r="4.7" fill="none" stroke="currentColor" strokeWidth="1.4" />
        <path d="M1.3 6h9.4A4.7 4.7 0 0 1 1.3 6Z" fill="currentColor" />
      </>
    ),
  },
  ready: { word: "ready", draw: <path d="M6 .6 10.9 11H1.1Z" fill="currentColor" /> },
  held: {
    word: "held",
    draw: (
      <>
        <path d="M1.7 1.7h8.6v8.6H1.7Z" stroke="currentColor" strokeWidth="1.4" fill="none" />
        <path d="M1.7 6h8.6" stroke="currentColor" strokeWidth="1.8" />
      </>
    ),
  },
  clear: {
    word: "clear",
    draw: (
      <>
        <path d="M1 9.5h10" stroke="currentColor" strokeWidth="1.6" fill="none" />
        <circle cx="6" cy="4.6" r="2" fill="currentColor" />
      </>
    ),
  },
};

export const WORST_FIRST = Object.keys(STATES) as State[];

export function Glyph({ state }: { state: State }) {
  const turn = state === "running" ? " turn" : "";
  return (
    <svg className={`g is-${state}${turn}`} viewBox="0 0 12 12" aria-hidden="true">
      {STATES[state].draw}
    </svg>
  );
}

/** A state as shape, word and tone. */
export function StateWord({ state }: { state: State }) {
  return (
    <span className={`st is-${state}`}>
      <Glyph state={state} />
      {STATES[state].word}
    </span>
  );
}
