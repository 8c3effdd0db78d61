import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, asked, queries, told } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Ask } from "../../pieces/dialog";
import { Load } from "../../pieces/load";
import { clock, day, plural } from "../../pieces/time";
import { stopping, type Story, underWay, waveText } from "./state";
import { Waves } from "./waves";

/** A rollout: its waves below each other with the gates between them, and what wants a word. */
export function RolloutPage() {
  const id = Number(useParams().id);
  const rollout = useQuery(asked.rollout(id));
  const today = useQuery(asked.today());
  const story = rollout.data;
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={story?.members.filter((m) => m.state !== "left out").map((m) => m.site) ?? []}>
          <p className="caption">
            <b>
              {story?.members.filter((m) => m.state !== "left out").length ?? 0} of {today.data.sites.length} are in this rollout
            </b>
            {story && waveText(story.members)}
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>{`Rollout ${id} · Windbreak`}</title>
        <Load query={rollout} rows={10}>
          {(one) => (
            <>
              <div className="head ruled">
                <h1>{one.title}</h1>
                <span className="q">
                  rollout {one.rollout.id} · approved by {one.rollout.made_by}, {day(one.rollout.made_at)}, {clock(one.rollout.made_at)}
                  {one.rollout.why && `: “${one.rollout.why}”`}
                </span>
              </div>
              <div className="cols asks-first">
                <Waves story={one} sites={today.data?.sites ?? []} />
                <Side story={one} />
              </div>
            </>
          )}
        </Load>
      </main>
    </>
  );
}

function Side({ story }: { story: Story }) {
  const words = story.gates.filter((gate) => gate.state === "wants a word");
  return (
    <aside className="side">
      <section>
        <h2>
          How it stands <span>{story.rollout.state}</span>
        </h2>
        <p className="pt-2">{story.standing}</p>
        {story.rollout.text && <p className="pt-1">{story.rollout.text}</p>}
        {story.rollout.follows != null && (
          <p className="pt-1">
            It takes a patch release by the word given for{" "}
            <Link className="t underline" to={`/rollouts/${story.rollout.follows}`}>
              rollout {story.rollout.follows}
            </Link>
            .
          </p>
        )}
        {story.rollout.patches_until != null && (
          <p className="q pt-1">Patch releases follow until {day(`${story.rollout.patches_until}T12:00`)}, once they have soaked.</p>
        )}
      </section>
      {words.map((gate) => (
        <WantsWord key={gate.id} story={story} gate={gate} />
      ))}
      {story.failed.map((move) => (
        <LetGo key={`${move.product} ${move.version}`} move={move} />
      ))}
      <Change story={story} />
    </aside>
  );
}

const refresh = () => void queries.invalidateQueries();

/** A gate behind which something did not end well: open it, go on without a site, or wait. */
function WantsWord({ story, gate }: { story: Story; gate: Story["gates"][number] }) {
  const [why, setWhy] = useState("");
  const open = useMutation({
    mutationFn: () =>
      told(api.POST("/api/v1/rollouts/{id}/open-gate", { params: { path: { id: story.rollout.id } }, body: { gate: gate.id, why } })),
    onSuccess: refresh,
  });
  return (
    <section className="wants" aria-label="A gate wants your word">
      <h2>{gate.label}: the gate wants your word</h2>
      <p className="pt-2">{gate.text}</p>
      <div className="field pt-2">
        <label htmlFor={`word-${gate.id}`}>Why it may open</label>
        <input id={`word-${gate.id}`} className="in" value={why} onChange={(event) => setWhy(event.target.value)} />
      </div>
      {open.isError && <p className="err">{open.error.message}</p>}
      <button className="btn go mt-2" disabled={open.isPending} onClick={() => open.mutate()}>
        Open it for {plural(gate.before.length, "site")}
      </button>
      <p className="q pt-2">Unsaid, those behind it go a night later.</p>
    </section>
  );
}

function LetGo({ move }: { move: Story["failed"][number] }) {
  const [kind = "", slug = ""] = move.product.split("/");
  const [why, setWhy] = useState("");
  const go = useMutation({
    mutationFn: () =>
      told(
        api.POST("/api/v1/failed-moves/{kind}/{slug}/{version}/let-go", {
          params: { path: { kind, slug, version: move.version } },
          body: { why },
        }),
      ),
    onSuccess: refresh,
  });
  return (
    <section className="wants" aria-label="A move that failed">
      <h2>The same move waits everywhere</h2>
      <p className="pt-2">
        <Link to={`/products/${move.product}`}>{move.what}</Link>. {move.text}{" "}
        <Link to={`/runs/${move.run}`}>See run {move.run}</Link>
      </p>
      <div className="field pt-2">
        <label htmlFor={`go-${slug}`}>Why it may be made elsewhere</label>
        <input id={`go-${slug}`} className="in" value={why} onChange={(event) => setWhy(event.target.value)} />
      </div>
      {go.isError && <p className="err">{go.error.message}</p>}
      <button className="btn mt-2" disabled={go.isPending} onClick={() => go.mutate()}>
        Let it go elsewhere
      </button>
    </section>
  );
}

function Change({ story }: { story: Story }) {
  const [asking, setAsking] = useState<"out" | "stop" | "on" | null>(null);
  const [site, setSite] = useState("");
  const [why, setWhy] = useState("");
  const path = { params: { path: { id: story.rollout.id } } };
  const done = () => {
    setAsking(null);
    setWhy("");
    refresh();
  };
  const act = useMutation({
    mutationFn: () => {
      if (asking === "out") return told(api.POST("/api/v1/rollouts/{id}/leave-out", { ...path, body: { site, why } }));
      if (asking === "on") return told(api.POST("/api/v1/rollouts/{id}/go-on", { ...path, body: { why } }));
      return told(api.POST("/api/v1/rollouts/{id}/stop", { ...path, body: { why } }));
    },
    onSuccess: done,
  });
  const left = story.members.filter((one) => one.state === "booked" || one.state === "to be booked");
  const counts = stopping(story);
  const stopped = story.rollout.state === "stopped";
  if (!underWay(story) && !stopped) return null;
  const titles = { out: "Leave one out", stop: `Stop ${story.title}`, on: `Go on with ${story.title}` };
  return (
    <section>
      <h2>Change the rollout</h2>
      {stopped ? (
        <p className="pt-2">What has not run is planned and booked anew when you go on.</p>
      ) : (
        <p className="pt-2">
          <b>Leave one out:</b> the others go on. <b>Stop:</b> {plural(counts.out, "booking")} are taken out, and the {counts.stay} done stay.
        </p>
      )}
      <div className="flex gap-2 pt-2">
        {stopped ? (
          <button className="btn" onClick={() => setAsking("on")}>
            Go on…
          </button>
        ) : (
          <>
            <button className="btn" disabled={left.length === 0} onClick={() => setAsking("out")}>
              Leave one out…
            </button>
            <button className="btn" onClick={() => setAsking("stop")}>
              Stop…
            </button>
          </>
        )}
      </div>
      <Ask
        open={asking !== null}
        title={asking ? titles[asking] : ""}
        go={asking === "out" ? "Leave it out" : asking === "on" ? "Go on" : "Stop it"}
        busy={act.isPending}
        ready={asking !== "out" || site !== ""}
        failed={act.isError ? act.error.message : null}
        onGo={() => act.mutate()}
        onLeave={() => setAsking(null)}
      >
        {asking === "stop" && (
          <p>
            {counts.run > 0 ? `${plural(counts.run, "run")} under way ${counts.run === 1 ? "goes" : "go"} on to the end. ` : "Nothing of it runs now. "}
            <b>The {counts.stay} done stay.</b> {plural(counts.out, "site")} wait until you say go on; what changes by it you see on the calendar.
          </p>
        )}
        {asking === "out" && (
          <div className="field">
            <label htmlFor="out-site">Which site</label>
            <select id="out-site" className="in" value={site} onChange={(event) => setSite(event.target.value)}>
              <option value="">choose one</option>
              {left.map((one) => (
                <option key={one.site} value={one.site}>
                  {one.label}
                </option>
              ))}
            </select>
          </div>
        )}
        <div className="field pt-2">
          <label htmlFor="change-why">Why</label>
          <input id="change-why" className="in" value={why} onChange={(event) => setWhy(event.target.value)} />
          <p className="hint">It stands in the ledger.</p>
        </div>
      </Ask>
    </section>
  );
}
