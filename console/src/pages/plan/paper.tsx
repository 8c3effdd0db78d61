import type { Schemas } from "../../api/client";
import { clock, day } from "../../pieces/time";
import { now } from "../../pieces/now";

type Sheet = Schemas["PlanSheet"];

/** A plan on paper: it is there for the printer alone. A box is ticked when it was read back. */
export function Paper({ sheet, who }: { sheet: Sheet; who: string }) {
  const booked = sheet.starts_at && sheet.ends_at;
  const combined = sheet.steps.filter((step) => step.moves.length > 1).length;
  const products = new Set(sheet.steps.flatMap((step) => step.moves.map((move) => move.product))).size;
  return (
    <article className="paper-sheet" aria-hidden="true">
      <header>
        <div>
          <h1>Checklist: {sheet.label}</h1>
          <p>
            <b>
              {booked
                ? `${day(sheet.starts_at!)}, ${clock(sheet.starts_at!)} to ${clock(sheet.ends_at!)}.`
                : "Not booked: note when:  ______________________"}
            </b>{" "}
            {sheet.host && `On ${sheet.host}. `}Window: {sheet.window}.
          </p>
        </div>
        <p className="aside">
          <b>Windbreak</b>, plan {sheet.plan}
          <br />
          reckoned {day(sheet.reckoned_at)}, {clock(sheet.reckoned_at)}, {sheet.approved_by ? `approved by ${sheet.approved_by}` : "not yet approved"}
          <br />
          printed {day(new Date(now()))}, {clock(new Date(now()))} by {who}
        </p>
      </header>
      <p>
        <b>
          {sheet.steps.length} steps{combined > 0 && `, ${combined} combined`}; {products} products; about {sheet.minutes} min
          {sheet.page_minutes > 0 && `, ${sheet.page_minutes} of them behind a maintenance page`}.
        </b>{" "}
        Tick a box only when it was read back. If a version on the site is not the one printed here, stop and print again.
      </p>
      <Part title="Before" aside={`${sheet.before_minutes} min`}>
        {!sheet.approved_by && <Tick line text="The plan is approved. Note by whom:" />}
        {sheet.gate && <Tick line text={`The gate is open. When this was printed: ${sheet.gate}.`} />}
        <Tick line text={`Agent answers; installed as printed; pages and editor fine; at least ${sheet.back_minutes} min left to go back in.`} />
        <Tick line text="Snapshot of files and database, complete and read back. Note its time:" />
        <Tick
          line
          text={`Automatic updates ${sheet.automatic_updates === false ? "are off already" : "paused"}${sheet.automatic_updates ? " (were on)" : ""}. ${
            sheet.caches.length ? `Off: ${sheet.caches.join(", ")}.` : "No cache is on."
          }`}
        />
      </Part>
      <Part title="Steps" aside="after each: read back, look at the pages, only then the next">
        <table>
          <thead>
            <tr>
              <th />
              <th />
              <th>move, and why here</th>
              <th>min</th>
              <th>must read</th>
              <th>at</th>
            </tr>
          </thead>
          <tbody>
            {sheet.steps.map((step) => (
              <tr key={step.number}>
                <td>
                  <span className="box" />
                </td>
                <td>
                  <span className={step.moves.length > 1 ? "no combined" : step.waypoint ? "no waypoint" : "no"}>{step.number}</span>
                </td>
                <td>
                  {step.moves.map((move, n) => (
                    <span key={move.product}>
                      {n > 0 && " with "}
                      <b>{move.name}</b> {move.start ?? "absent"} {move.end ? `to ${move.end}` : "leaves"}
                    </span>
                  ))}
                  {step.tied && (
                    <>
                      <br />
                      {step.why}
                    </>
                  )}
                </td>
                <td>{step.minutes}</td>
                <td className="v">{step.moves.map((move) => move.end ?? "gone").join(", ")}</td>
                <td className="line" />
              </tr>
            ))}
          </tbody>
        </table>
        {sheet.usual && <p>{sheet.usual}</p>}
      </Part>
      <Part title="After" aside={`${sheet.after_minutes} min`}>
        <Tick text="Generated files made anew, caches purged." />
        <Tick
          text={`${sheet.caches.length ? `${sheet.caches.join(", ")} on, ` : ""}automatic updates ${
            sheet.automatic_updates === false ? "left off" : "on"
          }: read back.`}
        />
        <Tick text="Last look past caches and as a visitor: as before." />
      </Part>
      {sheet.own.length > 0 && (
        <Part title="Own files" aside="">
          <Tick text={`${sheet.own.join(", ")}: not touched.`} />
        </Part>
      )}
      {sheet.errands.length > 0 && (
        <Part title="Errands" aside={sheet.errands.some((one) => one.blocking) ? "the run waits for what is marked" : "none holds up the run"}>
          {sheet.errands.map((one) => (
            <Tick key={one.text} text={`${one.text}${one.due_days != null ? `, within ${one.due_days} days` : ""}${one.blocking ? " (the run waits)" : ""}`} />
          ))}
        </Part>
      )}
      <Part title="What if" aside="">
        <table>
          <tbody>
            <tr>
              <th>a look is not as before</th>
              <td>Put back that step, look again. A combined step goes back whole, never half. Then stop, do “After”.</td>
            </tr>
            <tr>
              <th>it is still not as before</th>
              <td>Maintenance page up; call {sheet.approved_by ?? "who approved it"}. Restore only if nobody wrote anything since the snapshot.</td>
            </tr>
            <tr>
              <th>the site does not answer</th>
              <td>Wait, look at its pages. Ask what became of the step; never apply it twice. Call after 30 min.</td>
            </tr>
            <tr>
              <th>it is later than {sheet.last_step_at ? clock(sheet.last_step_at) : "the window allows"}</th>
              <td>Begin no step: finish the one in hand, do “After”, leave the rest for another night.</td>
            </tr>
          </tbody>
        </table>
      </Part>
      <footer>
        <span>done by</span>
        <span>day, time</span>
        <span>looked over by</span>
        <span>day, time</span>
      </footer>
      <p className="aside">
        What is owed when you stop early: automatic updates, {sheet.caches.join(", ") || "caches"}, maintenance page. Nobody leaves before they are as
        they were. {sheet.address}
      </p>
    </article>
  );
}

function Part({ title, aside, children }: { title: string; aside: string; children: React.ReactNode }) {
  return (
    <section>
      <h2>
        {title} <span>{aside}</span>
      </h2>
      {children}
    </section>
  );
}

function Tick({ text, line = false }: { text: string; line?: boolean }) {
  return (
    <p className="tick">
      <span className="box" />
      <span>{text}</span>
      {line && <span className="line" />}
    </p>
  );
}
