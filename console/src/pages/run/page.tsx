import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, asked, queries, type RunStory, told } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Errands } from "../../pieces/errands";
import { Load } from "../../pieces/load";
import { clock, plural, span } from "../../pieces/time";
import { Age, Moves } from "../../pieces/words";
import { Rail, type RailItem } from "../../rail/rail";
import { Glyph } from "../../states/states";
import { RUN_STATES } from "../runs/state";
import { Facts, Owed, WaysOut } from "./matter";
import { Pace } from "./pace";
import { Pictures } from "./pictures";
import { isCombined, took, VERDICTS } from "./state";
import { Next, Waiting, WaitingActs, WindowLeft } from "./waiting";

const LOOK_MS = 60_000; // between two looks at the site of an open matter

export function RunPage() {
  const id = Number(useParams().id);
  const run = useQuery(asked.run(id));
  const today = useQuery(asked.today());
  const site = today.data?.sites.find((s) => s.id === run.data?.run.site);
  return (
    <>
      {today.data && run.data && (
        <Belt sites={today.data.sites} subjects={[run.data.run.site]}>
          <p className="caption">
            <b>{site?.label}</b>
            <span className="line-clamp-2">{run.data.run.text}</span>
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <Load query={run} rows={12}>
          {(story) => <Story story={story} label={site?.label ?? story.run.site} />}
        </Load>
      </main>
    </>
  );
}

function Story({ story, label }: { story: RunStory; label: string }) {
  const { run } = story;
  const open = story.matter !== null && story.matter !== undefined && !story.matter.closed_at;
  const matter = useQuery({
    ...asked.matter(run.id),
    enabled: story.matter !== null,
    refetchInterval: open ? LOOK_MS : false,
  });
  const stop = useMutation({
    mutationFn: () =>
      told(api.POST("/api/v1/runs/{id}/stop", { params: { path: { id: run.id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["run", run.id] }),
  });
  return (
    <>
      <title>{`Run at ${label} · Windbreak`}</title>
      <div className="head ruled">
        {open ? (
          <h1 className="text-alarm">
            <Glyph state="failed" /> <Link to={`/sites/${run.site}`}>{label}</Link>
            {matter.data && `: ${matter.data.head}`}
          </h1>
        ) : (
          <h1>
            Run at <Link to={`/sites/${run.site}`}>{label}</Link>
          </h1>
        )}
        {open && story.matter ? (
          <span className="q">
            since {clock(story.matter.opened_at)}, {span(story.matter.opened_at)}
          </span>
        ) : (
          <span className="q">
            {run.state === "running" ? `step ${run.step} of ${run.steps}` : <RunWord story={story} />} ·
            since {clock(run.started_at)}
            {run.ended_at && ` to ${clock(run.ended_at)}`} · by {run.by}
            {run.reckoned != null && ` · reckoned at ${Math.max(1, Math.round(run.reckoned / 60))} min`}
          </span>
        )}
        <span className="sp" />
        {run.waiting_since && <WaitingActs story={story} />}
        {run.state === "running" && !run.waiting_since && (
          <button
            className="btn"
            disabled={run.stop_asked || stop.isPending}
            onClick={() => stop.mutate()}
          >
            {run.stop_asked ? `Stops after step ${run.step}` : `Stop after step ${run.step}`}
          </button>
        )}
      </div>
      <p className={run.state === "done" || run.state === "running" ? "q py-2" : "py-2"} role="status">
        {run.text}
      </p>
      {matter.data && open && <Facts story={matter.data} />}
      {run.waiting_since && <Waiting story={story} />}
      {run.surprises.length > 0 && (
        <p className="py-2 text-block">
          <b>Other hands were here:</b> {run.surprises.join("; ")}.
        </p>
      )}
      <div className="two run">
        <section aria-label="Steps">
          {open && (
            <h2 className="border-b border-line-strong pb-1 mb-2">
              What happened <span className="qq">run {run.id}, by {run.by}</span>
            </h2>
          )}
          <Rail items={items(story)} label="Steps of the run" />
          {run.state === "running" && !run.waiting_since && <Pace story={story} />}
          <Errands errands={story.errands} />
          {!open && (
            <>
              <h2 className="border-b border-line-strong pt-3 pb-1">To be as it was, whatever happens</h2>
              <p className="out">{story.as_it_was || "It is not yet known what was on before."}</p>
            </>
          )}
          {(run.state !== "running" || run.waiting_since) && <Owed debts={story.owed} />}
        </section>
        <section aria-label="Probe and log">
          {run.waiting_since && (
            <>
              <Next story={story} />
              <WindowLeft story={story} />
            </>
          )}
          {story.matter && <Load query={matter}>{(told) => <WaysOut story={told} />}</Load>}
          {story.lost.length > 0 && <Given story={story} />}
          {!open && <Looked story={story} />}
        </section>
      </div>
      {open && (
        <div className="two low">
          <Looked story={story} />
        </div>
      )}
    </>
  );
}

/** What was seen, and the log. */
function Looked({ story }: { story: RunStory }) {
  return (
    <>
      <section aria-label="Probe">
        <Probe story={story} />
      </section>
      <section aria-label="Pictures and log">
        <Pictures story={story} />
        <h2 className="pt-3 pb-1">
          Log <span className="qq">{plural(story.journal.length, "line")}, newest first</span>
        </h2>
        <ol
          className="log loglines max-h-[420px] overflow-auto"
          tabIndex={0}
          aria-label="Log of the run, newest first"
        >
          {[...story.journal].reverse().map((entry) => (
            <li key={entry.id}>
              <time dateTime={entry.at}>{new Date(entry.at).toTimeString().slice(0, 8)}</time>
              <b className={entry.state === "failed" ? "text-alarm" : ""}>{entry.state}</b>
              <span>
                {entry.act}
                {entry.text && `: ${entry.text}`}
              </span>
            </li>
          ))}
        </ol>
      </section>
    </>
  );
}

/** What the restore lost is there for the site's owner. */
function Given({ story }: { story: RunStory }) {
  return (
    <p className="out">
      {plural(story.lost.length, "thing")} written since the snapshot {story.lost.length === 1 ? "was" : "were"}{" "}
      lost when it was restored.{" "}
      <a className="lk" href={`/api/v1/runs/${story.run.id}/lost.csv`} download={`lost-run-${story.run.id}.csv`}>
        The list, for its owner
      </a>
    </p>
  );
}

function RunWord({ story }: { story: RunStory }) {
  const state = RUN_STATES[story.run.state];
  return (
    <span className={`is-${state}`}>
      <Glyph state={state} /> {story.run.state}
    </span>
  );
}

/** When something began, and how long it took or takes by now. */
function times(from: string | null | undefined, to: string | null | undefined) {
  if (!from) return "";
  return (
    <>
      {clock(from)}
      <span className="inline-block w-[44px]">{took(from, to)}</span>
    </>
  );
}

function items(story: RunStory): RailItem[] {
  const { run, steps } = story;
  const begun = run.phase !== "before" && run.phase !== "prepare";
  const ended = run.phase === "ended";
  return [
    {
      key: "before",
      mark: { kind: "guard", done: begun },
      content: <p className="m">Before and prepare</p>,
      aside: times(run.started_at, steps[0]?.started_at ?? run.ended_at),
    },
    ...steps.map((step): RailItem => {
      return {
        key: String(step.number),
        later: step.state === "to come",
        mark: { kind: isCombined(step) ? "combined" : "move", number: step.number, state: step.state },
        content: (
          <>
            <p className="m">
              <Moves moves={step.moves} />
            </p>
            {step.state === "to come" && <p className="r">{step.why}</p>}
            {step.brings.map((text) => (
              <p key={text} className="r">
                {text}
              </p>
            ))}
            {(step.state === "failed" || step.state === "put back") && step.happened.length === 0 && (
              <p className="r text-alarm">{step.state}</p>
            )}
          </>
        ),
        aside: times(step.started_at, step.ended_at),
        arms: step.happened.map((line) => ({
          key: `${line.at} ${line.text}`,
          kind: line.kind,
          text: line.text,
          aside: clock(line.at),
        })),
      };
    }),
    {
      key: "after",
      later: !ended,
      mark: { kind: "guard", done: ended },
      content: <p className="m">Everything as it was, purge, last probe</p>,
      aside: story.owed.length > 0 && ended ? "owed" : times(endOfSteps(story), run.ended_at),
    },
  ];
}

/** When the last step that was begun was over; none while the run is at its steps. */
const endOfSteps = ({ run, steps }: RunStory) =>
  run.phase === "after" || run.phase === "ended" ? steps.findLast((step) => step.ended_at)?.ended_at : null;

function Probe({ story }: { story: RunStory }) {
  const after = story.seen_after ? `after step ${story.seen_after}` : "at the end";
  return (
    <>
      <h2 className="pt-3 pb-1">Probe: before the run, and now{story.seen.length > 0 && `, ${after}`}</h2>
      {story.seen.length === 0 ? (
        <p className="out">The site is looked at after the first step.</p>
      ) : (
        <table className="rows plainend">
          <thead>
            <tr>
              <th>page</th>
              <th>before</th>
              <th>now</th>
              <th>verdict</th>
            </tr>
          </thead>
          <tbody>
            {story.seen.map((one) => (
              <tr key={one.name}>
                <td>
                  <span className="nm">{one.name}</span>
                </td>
                <td>{one.before}</td>
                <td>{one.now}</td>
                <td className={`is-${VERDICTS[one.verdict]}`}>
                  <Glyph state={VERDICTS[one.verdict] ?? "unknown"} /> {one.verdict}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {story.run.state === "running" && story.seen.length > 0 && (
        <p className="qq pt-1">
          Looked at <Age at={story.run.last_sign_at} suffix=" ago" />, past every cache.
        </p>
      )}
    </>
  );
}

