import type { SiteSummary } from "../api/client";
import { Glyph, STATES, WORST_FIRST } from "../states/states";

/** How many sites are in each state, worst first. */
export function Tally({ sites }: { sites: SiteSummary[] }) {
  const counts = WORST_FIRST.map((state) => ({
    state,
    count: sites.filter((s) => s.state === state).length,
  })).filter((one) => one.count > 0);
  return (
    <div className="tally" role="group" aria-label="Sites by state">
      {counts.map(({ state, count }) => (
        <div key={state} className="contents">
          <span className={`is-${state}`}>
            <Glyph state={state} />
          </span>
          <span className="num">{count}</span>
          <span>{STATES[state].word}</span>
        </div>
      ))}
    </div>
  );
}
