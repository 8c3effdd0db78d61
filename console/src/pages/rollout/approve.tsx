import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, Problem, queries, told } from "../../api/client";
import { heightOf } from "../../belt/layout";
import { clock, day, plural } from "../../pieces/time";
import { Glyph } from "../../states/states";
import { type Changed, changedSince, useDraft } from "./draft";
import { approved, dayAhead, type Draft, EVERYTHING, type Member, type New, nightOf, nightsOf, totals, unfinished, watched, wavesOf } from "./state";

/** A rollout before it is approved: what, where, when, what it brings, who stays out. */
export function Approve({ asked, onLeave }: { asked: Partial<New>; onLeave: () => void }) {
  const [canaries, setCanaries] = useState<string[] | null>(null);
  const [waves, setWaves] = useState(1);
  const wanted = { ...EVERYTHING, ...asked, canaries, waves };
  const { draft, error, changes, renew, showNow } = useDraft(wanted);
  return (
    <Dialog open onClose={onLeave} className="relative z-30">
      <div className="veil" aria-hidden="true" />
      <div className="over">
        <DialogPanel className="dlg wide">
          {draft ? (
            <Drafted draft={draft} changes={changes} onRenew={renew} onChanged={showNow} onCanaries={setCanaries} onWaves={setWaves} onLeave={onLeave} />
          ) : (
            <>
              <DialogTitle as="h2">Approve</DialogTitle>
              <p className={error ? "err" : "q"} role={error ? "alert" : "status"}>
                {error ? error.message : "Drafting: who can go, when, and who can’t…"}
              </p>
              <div className="feet">
                <button className="btn" onClick={onLeave}>
                  Leave it
                </button>
              </div>
            </>
          )}
        </DialogPanel>
      </div>
    </Dialog>
  );
}

function Drafted({
  draft,
  changes,
  onRenew,
  onChanged,
  onCanaries,
  onWaves,
  onLeave,
}: {
  draft: Draft;
  changes: readonly string[];
  onRenew: () => void;
  onChanged: (changed: Changed) => void;
  onCanaries: (sites: string[]) => void;
  onWaves: (waves: number) => void;
  onLeave: () => void;
}) {
  const [patches, setPatches] = useState<string | null>(null);
  const [restore, setRestore] = useState(false);
  const [why, setWhy] = useState("");
  const [asking, setAsking] = useState(false);
  const go = useNavigate();
  const let_ = useMutation({
    mutationFn: (without: string[]) =>
      told(api.POST("/api/v1/rollouts", { body: approved(draft, { patches, restore, why, without }) })),
    onSuccess: (rollout) => {
      void queries.invalidateQueries();
      onLeave();
      go(`/rollouts/${rollout.id}`);
    },
    onError: (error) => {
      const changed = changedSince(error);
      if (changed) {
        setAsking(false);
        onChanged(changed);
      }
    },
  });
  const refused = let_.isError && !changedSince(let_.error) ? let_.error : null;
  const gone = refused instanceof Problem && refused.code === "draft-gone";
  const sum = totals(draft);
  const few = watched(draft);
  const title = `Approve ${draft.what}, for ${draft.where}`;
  const some = plural(draft.members.length, "site");
  if (asking)
    return <WhoIsThere draft={draft} few={few} busy={let_.isPending} failed={refused?.message ?? null} onBack={() => setAsking(false)} onGo={(without) => let_.mutate(without)} />;
  return (
    <>
      <DialogTitle as="h2">{title}</DialogTitle>
      <p className="sum">
        <b>{sum.all}</b>
        {sum.kinds.map((kind) => (
          <b key={kind}>{kind}</b>
        ))}
        {draft.held > 0 && <span className="q">{draft.held} held</span>}
      </p>
      {changes.length > 0 && (
        <section className="brings" role="alert">
          <h3>Something changed since this was shown. Nothing was approved.</h3>
          {changes.map((line) => (
            <p key={line}>{line}</p>
          ))}
          <p className="q">Below is the draft as it is now.</p>
        </section>
      )}
      <p className="q" role="status">
        {unfinished(draft) || "These times are final."}
      </p>
      {draft.before.length > 0 && (
        <p className="q">{plural(draft.before.length, "site")} were approved before and keep their time.</p>
      )}
      {draft.members.length > 0 && <Waves draft={draft} />}
      <Canaries draft={draft} onCanaries={onCanaries} />
      <RestInWaves draft={draft} onWaves={onWaves} />
      {(draft.brings.length > 0 || few.length > 0) && (
        <section className="brings" aria-label="What it brings">
          <h3>What it brings: work for you</h3>
          {draft.brings.map((bring) => (
            <p key={bring.text}>
              <b>{bring.text}</b> for {names(bring.labels)}
              {bring.due_days !== null && <span className="q"> within {plural(bring.due_days, "day")}</span>}
            </p>
          ))}
          {few.length > 0 && (
            <p>
              <b>Be there</b> for {names(few.map((member) => member.label))}
            </p>
          )}
        </section>
      )}
      {draft.members.length > 0 && (
        <div className="two-ask">
          <fieldset>
            <legend>How far</legend>
            <Choice name="far" on={patches === null} onPick={() => setPatches(null)} label="exactly these versions" />
            <Choice name="far" on={patches !== null} onPick={() => setPatches(dayAhead(PATCH_DAYS))} label="patch releases of them too, until a day" />
            {patches !== null && (
              <p className="until">
                <label htmlFor="patches-until">until</label>{" "}
                <input id="patches-until" type="date" className="in" min={dayAhead(0)} value={patches} onChange={(event) => setPatches(event.target.value || dayAhead(PATCH_DAYS))} />{" "}
                <span className="q">each soaks and goes the same waves; one that changes a database or asks for you waits for your word</span>
              </p>
            )}
          </fieldset>
          <fieldset>
            <legend>If a step fails past putting back</legend>
            <Choice name="back" on={!restore} onPick={() => setRestore(false)} label="maintenance page, and ask me" />
            <Choice name="back" on={restore} onPick={() => setRestore(true)} label="restore, and lose what came in" />
          </fieldset>
        </div>
      )}
      {draft.members.length > 0 && (
        <p className="q">
          A step that fails is put back and you are told; who has the same move waits, and a wave whose gate fails waits for your word.
        </p>
      )}
      <StayOut draft={draft} />
      {draft.members.length > 0 && (
        <div className="field pt-2">
          <label htmlFor="approve-why">
            Why <span className="q font-normal">stands in the ledger</span>
          </label>
          <input id="approve-why" className="in" value={why} onChange={(event) => setWhy(event.target.value)} />
        </div>
      )}
      {refused && (
        <p className="err" role="alert">
          <span aria-hidden="true">✕</span>
          {refused.message}{" "}
          {gone && (
            <button className="btn" onClick={onRenew}>
              Draft it again
            </button>
          )}
        </p>
      )}
      <div className="feet">
        <span className="q">You can take it back for what has not begun.</span>
        <span className="sp" />
        <button className="btn" onClick={onLeave}>
          Leave it
        </button>
        <button
          className="btn go"
          disabled={let_.isPending || draft.members.length === 0}
          onClick={() => (few.length > 0 ? setAsking(true) : let_.mutate([]))}
        >
          {let_.isPending ? "Booking…" : `Approve ${some}${few.length > 0 ? "…" : ""}`}
        </button>
      </div>
    </>
  );
}

const MOST = 5;
const PATCH_DAYS = 14;

const names = (labels: readonly string[]) =>
  labels.length <= MOST ? labels.join(", ") : `${labels.slice(0, MOST).join(", ")} and ${labels.length - MOST} more`;

function Choice({ name, on, label, onPick }: { name: string; on: boolean; label: string; onPick: () => void }) {
  return (
    <label className="choice">
      <input type="radio" name={name} checked={on} onChange={onPick} />
      {label}
    </label>
  );
}

/** Waves below each other, nights beside each other, each site a small tree as high as its moves. */
function Waves({ draft }: { draft: Draft }) {
  const nights = nightsOf(draft.members).slice(0, 7);
  const none = draft.members.filter((member) => member.starts_at == null);
  return (
    <table className="waves plainend">
      <thead>
        <tr>
          <th>wave</th>
          {nights.map((night) => (
            <th key={night}>{day(`${night}T12:00`).slice(0, 6)}</th>
          ))}
          {none.length > 0 && <th>no place</th>}
        </tr>
      </thead>
      <tbody>
        {wavesOf(draft.members).map(({ key, label, words, members }) => (
          <tr key={key}>
            <td>
              <b>{label}</b> <span className="q">{words || members.length}</span>
            </td>
            {nights.map((night) => (
              <td key={night}>
                <Trees members={members.filter((one) => one.starts_at && nightOf(one.starts_at) === night)} />
              </td>
            ))}
            {none.length > 0 && (
              <td>
                <Trees members={members.filter((one) => one.starts_at == null)} />
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const PLACE = 13;
const HIGH = 26;

function Trees({ members }: { members: Member[] }) {
  if (!members.length) return null;
  const moves = (member: Member) => Object.values(member.moves).reduce((sum, n) => sum + n, 0);
  const label = members.map((one) => `${one.label}${one.starts_at ? ` ${clock(one.starts_at)}` : ""}`).join(", ");
  return (
    <svg className="trees" width={members.length * PLACE} height={HIGH + 3} role="img" aria-label={label}>
      <title>{label}</title>
      {members.map((member, n) => {
        const height = Math.min(HIGH - 4, heightOf(moves(member), 4.4));
        const x = n * PLACE + PLACE / 2;
        return (
          <path
            key={member.site}
            className={member.urgent ? "urgent" : "with-this"}
            d={`M${x - 3} ${HIGH - 2}V${HIGH - height + 5}L${x} ${HIGH - height}L${x + 3} ${HIGH - height + 5}V${HIGH - 2}Z`}
          />
        );
      })}
      <line className="ground" x1="0" x2={members.length * PLACE} y1={HIGH} y2={HIGH} />
    </svg>
  );
}

/** The canaries that are proposed, and a way to choose others. */
function Canaries({ draft, onCanaries }: { draft: Draft; onCanaries: (sites: string[]) => void }) {
  const [open, setOpen] = useState(false);
  const chosen = draft.members.filter((member) => member.wave === "canary");
  const live = draft.members.filter((member) => member.wave !== "twin");
  if (live.length < 2) return null;
  const toggle = (site: string) => {
    const now = chosen.map((member) => member.site);
    onCanaries(now.includes(site) ? now.filter((one) => one !== site) : [...now, site]);
  };
  return (
    <>
      <p>
        <b>Canaries:</b>{" "}
        {chosen.length > 0 ? `${names(chosen.map((one) => one.label))}. ` : "none: all go at once, after their twins. "}
        {draft.kinds > 0 && (
          <span className="q">
            They cover {draft.covered} of {draft.kinds} kinds that sites share{draft.proven && draft.asked.canaries == null ? ", with the fewest sites, least at stake first" : ""}.{" "}
          </span>
        )}
        <button className="btn plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "That will do" : "Change them…"}
        </button>
      </p>
      {open && (
        <div className="canaries">
          {live.map((member) => (
            <label key={member.site} className="choice" title={member.covers.join(", ")}>
              <input type="checkbox" checked={member.wave === "canary"} onChange={() => toggle(member.site)} />
              {member.label}
            </label>
          ))}
        </div>
      )}
      {chosen.length > 0 && (
        <p>
          <b>The gate</b> wants all looks as before and {draft.asked.quiet_minutes / 60} hours of quiet.{" "}
          {draft.members.some((member) => member.urgent) && (
            <span className="q">What closes an advisory, in red, does not wait for it.</span>
          )}
        </p>
      )}
    </>
  );
}

/** In how many waves the rest goes, each twice as large as the one before. */
function RestInWaves({ draft, onWaves }: { draft: Draft; onWaves: (waves: number) => void }) {
  const rest = draft.members.filter((member) => member.wave === "rest" && !member.urgent).length;
  if (rest < 2) return null;
  return (
    <p>
      <label htmlFor="rest-waves">
        <b>The rest</b> goes in
      </label>{" "}
      <select id="rest-waves" className="in few" value={draft.asked.waves} onChange={(event) => onWaves(Number(event.target.value))}>
        {[1, 2, 3, 4].filter((n) => n <= rest).map((n) => (
          <option key={n} value={n}>
            {plural(n, "wave")}
          </option>
        ))}
      </select>
      {draft.asked.waves > 1 && <span className="q"> Each is twice as large as the one before, least at stake first, and waits for the one before and its quiet time.</span>}
    </p>
  );
}

function StayOut({ draft }: { draft: Draft }) {
  const count = draft.stays_out.reduce((sum, one) => sum + one.sites.length, 0);
  if (count === 0 && draft.nothing === 0) return null;
  return (
    <table className="out-table plainend">
      <thead>
        <tr>
          <th className="w-[40%]">{plural(count, "site")} stay out</th>
          <th>
            why <span className="float-right">{draft.nothing > 0 && `${draft.nothing} others have nothing to do`}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {draft.stays_out.map((one) => (
          <tr key={one.text}>
            <td>
              <Glyph state={one.state} /> <span className="nm">{names(one.labels)}</span>
            </td>
            <td className="q">{one.text}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Some go only while somebody is there: who is, or whether they are left out. */
function WhoIsThere({
  draft,
  few,
  busy,
  failed,
  onBack,
  onGo,
}: {
  draft: Draft;
  few: Member[];
  busy: boolean;
  failed: string | null;
  onBack: () => void;
  onGo: (without: string[]) => void;
}) {
  const [there, setThere] = useState(true);
  const others = draft.members.length - few.length;
  return (
    <>
      <DialogTitle as="h2">Approve {plural(draft.members.length, "site")}: who is there?</DialogTitle>
      <p>
        {few.length} of the {draft.members.length} go only while somebody watches. The other {others} need nobody.
      </p>
      <table className="plainend">
        <thead>
          <tr>
            <th>site</th>
            <th>why watched</th>
            <th>when</th>
          </tr>
        </thead>
        <tbody>
          {few.map((member) => (
            <tr key={member.site}>
              <td className="nm">{member.label}</td>
              <td className="q">{member.watched}</td>
              <td>{member.starts_at ? `${day(member.starts_at)}, ${clock(member.starts_at)}` : "when somebody is there: no hours are entered for it yet"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="pt-3">
        <Choice name="there" on={there} onPick={() => setThere(true)} label="somebody is, at these times: their hours are entered" />
        <Choice name="there" on={!there} onPick={() => setThere(false)} label={`nobody: approve ${others} and leave these out`} />
      </div>
      {failed && (
        <p className="err" role="alert">
          <span aria-hidden="true">✕</span>
          {failed}
        </p>
      )}
      <div className="feet">
        <span className="sp" />
        <button className="btn" onClick={onBack}>
          Back
        </button>
        <button className="btn go" disabled={busy || (!there && others === 0)} onClick={() => onGo(there ? [] : few.map((member) => member.site))}>
          Approve {plural(there ? draft.members.length : others, "site")}
        </button>
      </div>
    </>
  );
}
