import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, queries, type RunStory, told } from "../../api/client";
import { clock, span } from "../../pieces/time";
import { Glyph } from "../../states/states";
import { inWords, marks, scale, type Scale, thinned, visitors, waitingScale } from "./lanes";
import { now } from "../../pieces/now";

/** Now, moved on each second while somebody looks. */
export function useNow(): number {
  const [at, setAt] = useState(now);
  useEffect(() => {
    const timer = window.setInterval(() => setAt(now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return at;
}

/** A run whose site is silent: what is known, on one time line. */
export function Waiting({ story }: { story: RunStory }) {
  const now = useNow();
  const { run } = story;
  const seen = visitors(story);
  const line = waitingScale(story, now);
  const since = run.waiting_since ?? run.last_sign_at;
  return (
    <section aria-label="Waiting for the site">
      <p className="say" role="status">
        <b className="is-failed">
          <Glyph state="running" /> Waiting for the site: its agent has given no sign for{" "}
          {span(since, now)}.
        </b>{" "}
        {seen && (
          <>
            <b className={seen.fine ? "" : "text-alarm"}>{seen.head}</b> {seen.text}
          </>
        )}{" "}
        {(seen?.fine ?? true) && "So nothing is put back."}
      </p>
      <div className="lanes" role="img" aria-label={inWords(story)}>
        <Hours line={line} now={now} />
        <Lane name="Agent, signs of life" now={line.at(now)} told={`last sign ${clock(since)}`}>
          <i className="tint" style={stretch(line.at(since), line.at(now))} />
          {story.pace?.signs.map((sign) => (
            <i key={sign} className="tick" style={place(line.at(sign))} />
          ))}
        </Lane>
        <Lane name="Asked, no answer" now={line.at(now)} told={run.ask_at ? `next ${clock(run.ask_at)}` : ""}>
          {thinned(line, run.asked).map((at) => (
            <i key={at} className="ring" style={place(line.at(at))} />
          ))}
          {run.ask_at && <i className="ring next" style={place(line.at(run.ask_at))} />}
        </Lane>
        <Lane name="Pages, from outside" now={line.at(now)} told={seen?.text ?? "not looked at yet"}>
          {run.meanwhile.map((look) => (
            <i key={look.at} style={place(line.at(look.at))} className="looked">
              <Glyph state={look.fine === look.of ? "clear" : "failed"} />
            </i>
          ))}
        </Lane>
        <Lane
          name="A person is told"
          now={line.at(now)}
          told={story.told_at ? `${clock(story.told_at)}, on Today and by web hook` : ""}
        >
          {story.told_at && <i className="person" style={place(line.at(story.told_at))} />}
        </Lane>
        <div className="over-lanes">
          <i className="now" style={place(line.at(now))}>
            <b>now {clock(new Date(now))}</b>
          </i>
        </div>
      </div>
    </section>
  );
}

const place = (left: number) => ({ left: `${left}%` });
const stretch = (left: number, right: number) => ({ left: `${left}%`, width: `${right - left}%` });

/** ``now`` is drawn in each lane where the lanes stand below each other, else once over all. */
function Lane({
  name,
  now,
  told: text,
  children,
}: {
  name: string;
  now: number;
  told: string;
  children: React.ReactNode;
}) {
  return (
    <div className="lane">
      <b>{name}</b>
      <div className="track">
        {children}
        <i className="here" style={place(now)} />
      </div>
      <span className="qq">{text}</span>
    </div>
  );
}

function Hours({ line, now }: { line: Scale; now: number }) {
  return (
    <div className="lane hours">
      <b />
      <div className="track">
        {marks(line, now).map((when) => (
          <i key={when} style={place(line.at(when))}>
            {clock(new Date(when))}
          </i>
        ))}
      </div>
    </div>
  );
}

/** Ask a silent site now, or end its run when it answers. */
export function WaitingActs({ story }: { story: RunStory }) {
  const { run } = story;
  const path = { params: { path: { id: run.id } } };
  const again = () => queries.invalidateQueries({ queryKey: ["run", run.id] });
  const ask = useMutation({
    mutationFn: () => told(api.POST("/api/v1/runs/{id}/ask", path)),
    onSettled: again,
  });
  const end = useMutation({
    mutationFn: () => told(api.POST("/api/v1/runs/{id}/stop", path)),
    onSettled: again,
  });
  return (
    <div className="acts">
      <button className="btn go" disabled={ask.isPending} onClick={() => ask.mutate()}>
        Ask it now
      </button>
      <button
        className="btn"
        disabled={run.stop_asked || end.isPending}
        onClick={() => end.mutate()}
      >
        {run.stop_asked ? "It ends when the site answers" : "End it when it answers"}
      </button>
    </div>
  );
}

/** What happens next, whatever the site does. */
export function Next({ story }: { story: RunStory }) {
  const { window: left, pace } = story;
  const until = left ? clock(left.latest) : null;
  const asked = pace ? `It is asked what became of its change (${pace.act}).` : "It is asked.";
  return (
    <section aria-label="What happens next">
      <h2 className="pb-1">What happens next</h2>
      <table className="rows plainend then">
        <tbody>
          <tr>
            <th scope="row">{until ? `It answers by ${until}` : "It answers"}</th>
            <td>
              {asked} <b>Done:</b> read back, looked at, the next step. <b>Half done:</b> made once
              more. <b>Never arrived:</b> sent again under the same id, so never done twice.
            </td>
          </tr>
          {until && (
            <tr>
              <th scope="row">It answers later</th>
              <td>What is owed is set back first. Then the run ends with the steps that are done.</td>
            </tr>
          )}
          <tr>
            <th scope="row">A page breaks</th>
            <td>It stands above at once. Without its agent nothing can be put back: ask its host.</td>
          </tr>
          <tr>
            <th scope="row">It stays silent</th>
            <td>
              {story.told_at && `At ${clock(story.told_at)} a person is told. `}
              What is owed stands, and is set back whenever the site answers, in a week or in a month.
            </td>
          </tr>
        </tbody>
      </table>
    </section>
  );
}

/** The window of the site: gone, to wait, steps to do, kept to go back in. */
export function WindowLeft({ story }: { story: RunStory }) {
  const now = useNow();
  const left = story.window;
  if (!left) return null;
  const line = scale(Date.parse(left.opens), Date.parse(left.closes));
  const back = Date.parse(left.closes) - left.back_minutes * 60_000;
  return (
    <section aria-label="The window">
      <h2 className="pt-3 pb-1">
        The window{" "}
        <span className="qq">
          {clock(left.opens)} to {clock(left.closes)}; {span(left.closes, now)} left
        </span>
      </h2>
      <div
        className="window"
        role="img"
        aria-label={`${left.steps_minutes} minutes of steps are left, and ${left.back_minutes} to go back in; the latest to go on is ${clock(left.latest)}.`}
      >
        <i className="gone" style={stretch(0, line.at(now))} />
        <i className="steps" style={stretch(line.at(left.latest), line.at(back))} />
        <i className="kept" style={stretch(line.at(back), 100)} />
        <i className="now" style={place(line.at(now))} />
        <i className="latest" style={place(line.at(left.latest))} />
      </div>
      <p className="qq flex justify-between">
        <span>{clock(left.opens)}</span>
        <span className="text-block">{clock(left.latest)} latest to go on</span>
        <span>{clock(left.closes)}</span>
      </p>
    </section>
  );
}
