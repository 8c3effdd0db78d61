import { Link } from "react-router";
import type { SiteSummary, State } from "../../api/client";
import { heightOf, waiting } from "../../belt/layout";
import { Shape } from "../../belt/tree";
import { ActLink } from "../../pieces/act-link";
import { clock, plural } from "../../pieces/time";
import { Glyph } from "../../states/states";
import { begun, type Going, type Ground, grounds, kin, opening, quietHours, reasonFor, type Story, ticks, twinWords, wantWord, wavesOf, waveText } from "./state";

const BASE = 63;
const RISE = 11.5;
const FEW = 16; // from so many members of a night on, what goes as it should has no words beside it

type Gate = Story["gates"][number];

/** The waves on their rail, the gates between them, and who is in none. */
export function Waves({ story, sites }: { story: Story; sites: SiteSummary[] }) {
  const rail = wavesOf(story.members);
  const between = new Set(rail.map((wave) => wave.gate));
  const ofTwins = story.gates.filter((gate) => !between.has(gate.id));
  return (
    <div>
      <ol className="wave-rail">
        {rail.map(({ key, label, members, gate: id }, index) => {
          const gate = story.gates.find((one) => one.id === id);
          return (
            <li key={key} className={begun(members) ? "gone" : ""}>
              <span className={begun(members) ? "disc on" : "disc"} aria-hidden="true">
                {index + 1}
              </span>
              <div className="wave-title">
                <h2>{label}</h2>
                <p className="q">{waveText(members)}</p>
              </div>
              <div className="wave-nights">
                {grounds(members).map((ground) => (
                  <section key={ground.key} aria-label={ground.label}>
                    <Trees story={story} ground={ground} />
                    <p className="q">
                      <b>{ground.label}</b>
                      {ground.reason && ` · ${ground.reason}`}
                    </p>
                  </section>
                ))}
              </div>
              {gate && <GateRow story={story} gate={gate} number={index + 1} />}
              {key === "twin" && ofTwins.length > 0 && <TwinGates story={story} gates={ofTwins} members={members} />}
            </li>
          );
        })}
      </ol>
      <Out story={story} sites={sites} />
    </div>
  );
}

/** Trees on one ground line, words beside each. */
function Trees({ story, ground: { members, reason } }: { story: Story; ground: Ground }) {
  const asked = wantWord(story);
  const quiet = (one: Going) => members.length > FEW && (one.state === "booked" || one.state === "done") && !asked.has(one.site);
  return (
    <ul className="wave-trees">
      {members.map((member) => (
        <li key={member.site} className={quiet(member) ? "bare" : ""}>
          <Tree member={member} asked={asked.has(member.site)} alone={quiet(member)} />
          {!quiet(member) && <Words story={story} member={member} asked={asked.has(member.site)} told={reason} />}
        </li>
      ))}
    </ul>
  );
}

const pathOf = (member: Going) => (member.run != null ? `/runs/${member.run}` : `/sites/${member.site}/plan`);

function Words({ story, member, asked, told }: { story: Story; member: Going; asked: boolean; told: string }) {
  const state = kin(member);
  const reason = reasonFor(member);
  const text = twinWords(story, member) || (reason === told ? "" : reason);
  const standing = asked ? "wants your word" : member.state === "booked" ? (member.urgent ? "does not wait" : "") : member.ending || member.state;
  return (
    <p>
      <Link className="nm" to={pathOf(member)}>
        {member.label}
      </Link>{" "}
      {member.at && member.state !== "left out" && <span className="q">{clock(member.at)}</span>}
      {standing && (
        <span className={`is-${asked ? "exposed" : state} block`}>
          {state === "clear" || state === "failed" ? <Glyph state={state} /> : null} {standing}
        </span>
      )}
      {member.state === "failed" && (
        <span className="q clamp" title={member.text}>
          {member.text}
        </span>
      )}
      {text && <span className="q block">{text}</span>}
    </p>
  );
}

/** One member: as high as its run has moves; done is a seedling in the height that it had. */
function Tree({ member, asked, alone }: { member: Going; asked: boolean; alone: boolean }) {
  const state: State = asked ? "exposed" : kin(member);
  const height = heightOf(member.moves, RISE);
  const tree = { state, moves: member.moves, x: 8, width: 10, height };
  const label = `${member.label}: ${plural(member.moves, "move")}, ${asked ? "wants your word" : member.state}`;
  return (
    <Link className="tree-link" to={pathOf(member)} aria-label={label} title={label} tabIndex={alone ? undefined : -1}>
      <svg className={`tree is-${state}${asked ? " asked" : ""}`} width="16" height="66" aria-hidden="true">
        {state === "clear" && <rect className="had" x="3" y={BASE - height} width="10" height={height} />}
        <rect className="tr" x="7" y={BASE} width="2" height="3" />
        <Shape tree={tree} base={BASE} />
      </svg>
    </Link>
  );
}

const WORDS: Record<Gate["state"], string> = { open: "open", quiet: "quiet", waits: "shut", "wants a word": "shut" };

function toneOf(gate: Gate): string {
  return gate.state === "open" ? "open" : gate.state === "wants a word" ? "asks" : "";
}

/** A gate on the rail: one mark a result, one tick an hour of quiet, when it opens and why. */
function GateRow({ story, gate, number }: { story: Story; gate: Gate; number: number }) {
  return (
    <div className={`gate ${toneOf(gate)}`}>
      <Posts open={gate.state === "open"} />
      <h3>
        Gate {number}, {WORDS[gate.state]}
      </h3>
      <Results story={story} gate={gate} sites={gate.after} />
      <p>
        <b>{opening(story, gate)}</b> <span className="q">{gate.text}</span>
      </p>
    </div>
  );
}

/** The gates of twins, told together: each opens its own site only. */
function TwinGates({ story, gates, members }: { story: Story; gates: Gate[]; members: Going[] }) {
  const open = gates.filter((gate) => gate.state === "open").length;
  const asks = gates.some((gate) => gate.state === "wants a word");
  const tone = asks ? "asks" : open === gates.length ? "open" : "";
  return (
    <div className={`gate ${tone}`}>
      <Posts open={open === gates.length} />
      <h3>
        {open} of {plural(gates.length, "gate")} open
      </h3>
      <Marks story={story} sites={members.map((member) => member.site)} />
      <p className="q">
        A twin opens its own site only, {quietHours(story)} after it ended as before.
      </p>
    </div>
  );
}

function Marks({ story, sites }: { story: Story; sites: readonly string[] }) {
  const every = story.members.filter((member) => sites.includes(member.site));
  return (
    <span className="marks" role="img" aria-label={waveText(every)}>
      {every.map((member) => (
        <Glyph key={member.site} state={kin(member)} />
      ))}
    </span>
  );
}

function Results({ story, gate, sites }: { story: Story; gate: Gate; sites: readonly string[] }) {
  const { of, gone } = ticks(story, gate);
  const end = of * 5;
  return (
    <div className="results">
      <Marks story={story} sites={sites} />
      {of > 0 && (
        <svg width={end + 3} height="16" role="img" aria-label={`${gone} of ${of} parts of its quiet time are gone`}>
          {Array.from({ length: of }, (_, n) => (
            <path key={n} className={n < gone ? "past" : "ahead"} d={n < gone ? `M${n * 5 + 1} 9v4` : `M${n * 5 + 1} 2v11`} />
          ))}
          <rect x={end} width="2" height="14" />
        </svg>
      )}
    </div>
  );
}

/** Two posts with a bar: raised where it is open, else two bars across. */
function Posts({ open }: { open: boolean }) {
  return (
    <svg className="posts" width="26" height="22" aria-hidden="true">
      <path d="M4 3v17M22 3v17" strokeWidth="2.6" />
      <path d={open ? "M4 14 19 1" : "M4 8.5h18M4 14.5h18"} strokeWidth="2" />
    </svg>
  );
}

const SMALL = { base: 20, rise: 3.1, most: 6 };

/** Who is in no wave, by the reason, with what can be done about it. */
function Out({ story, sites }: { story: Story; sites: SiteSummary[] }) {
  const count = story.stays_out.reduce((sum, one) => sum + one.sites.length, 0);
  if (count === 0) return null;
  const reasons = story.stays_out.length;
  return (
    <section className="pt-2" aria-label="Not in the waves">
      <div className="waves-foot">
        <h2>
          {plural(count, "site")} {count === 1 ? "is" : "are"} not in the waves{reasons > 1 ? `, for ${reasons} reasons` : ""}
        </h2>
        <Legend />
      </div>
      <ul className="stays-out">
        {story.stays_out.map((one) => (
          <li key={one.text}>
            <span className="small-trees" aria-hidden="true">
              {sites
                .filter((site) => one.sites.includes(site.id))
                .slice(0, SMALL.most)
                .map((site) => (
                  <SmallTree key={site.id} site={site} />
                ))}
            </span>
            <b>{one.sites.length}</b>
            <span className="nm">
              {one.labels.slice(0, 4).join(", ")}
              {one.labels.length > 4 && ` and ${one.labels.length - 4} more`}
            </span>
            <span className="q">{one.text}</span>
            <span className="act">{one.act && <ActLink act={one.act} />}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function SmallTree({ site }: { site: SiteSummary }) {
  const moves = waiting(site);
  const tree = { state: site.state, moves, x: 6, width: 6, height: heightOf(moves, SMALL.rise), progress: site.progress };
  return (
    <svg className={`tree is-${site.state}`} width="12" height="26" viewBox="0 -3 12 26">
      <rect className="tr" x="5" y={SMALL.base} width="2" height="3" />
      <Shape tree={tree} base={SMALL.base} />
    </svg>
  );
}

function Legend() {
  return (
    <p className="q wave-legend">
      height = moves of the run
      <svg className="tree is-clear" width="8" height="13" aria-hidden="true">
        <rect className="had" width="8" height="12" />
        <circle className="k" cx="4" cy="10" r="2.4" />
      </svg>
      done, had that height
      <svg className="tree is-exposed asked" width="8" height="13" aria-hidden="true">
        <rect className="b" x=".7" y=".7" width="6.6" height="11" />
      </svg>
      wants your word
    </p>
  );
}
