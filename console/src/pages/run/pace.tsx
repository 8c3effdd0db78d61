import type { RunStory } from "../../api/client";
import { span } from "../../pieces/time";
import { length, scale } from "./lanes";
import { useNow } from "./waiting";

/** The change that is under way: its signs of life against its usual length. */
export function Pace({ story }: { story: RunStory }) {
  const now = useNow();
  const { pace, run } = story;
  if (!pace) return <p className="out">Last sign of life {seconds(run.last_sign_at, now)} ago.</p>;
  const began = Date.parse(pace.began_at);
  const usual = began + pace.usual_seconds * 1000;
  const line = scale(began, Math.max(now, usual) + 1000);
  const last = pace.signs[pace.signs.length - 1] ?? pace.began_at;
  const stuck = pace.state === "stuck";
  const tone = { usual: "", slow: "text-wait", stuck: "text-alarm" }[pace.state];
  return (
    <section aria-label="The change under way" className="out">
      <p>
        <b className={tone}>{{ usual: "Under way", slow: "Slow", stuck: "Stuck" }[pace.state]}</b>{" "}
        {pace.act}
        {pace.progress && `: ${pace.progress}`}. Last sign of life {seconds(last, now)} ago.
      </p>
      <div
        className={`pace ${pace.state}`}
        role="img"
        aria-label={`${length((now - began) / 1000)} so far, usually ${length(pace.usual_seconds)}; ${pace.signs.length} signs of life.`}
      >
        {stuck && (
          <i
            className="tint"
            style={{ left: `${line.at(last)}%`, width: `${line.at(now) - line.at(last)}%` }}
          />
        )}
        {pace.signs.map((sign) => (
          <i key={sign} className="tick" style={{ left: `${line.at(sign)}%` }} />
        ))}
        <i className="usual" style={{ left: `${line.at(usual)}%` }} />
        <i className="now" style={{ left: `${line.at(now)}%` }} />
      </div>
      <p className="qq">
        {length((now - began) / 1000)} so far, usually {length(pace.usual_seconds)}.{" "}
        {stuck
          ? "It is followed until it ends; nothing is put back for silence."
          : pace.state === "slow" && "Slow is not stuck: signs of life go on."}
      </p>
    </section>
  );
}

const seconds = (at: string, now: number) =>
  now - Date.parse(at) < 90_000
    ? `${Math.max(0, Math.round((now - Date.parse(at)) / 1000))} s`
    : span(at, now);
