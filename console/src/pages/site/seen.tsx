import type { Schemas } from "../../api/client";
import { now } from "../../pieces/now";
import { Age } from "../../pieces/words";
import { Glyph } from "../../states/states";
import { quarters } from "./state";

type View = Schemas["SiteView"];

const STEP = 3;

/** How pages were in the last day: a stroke for each quarter of an hour, a tall one where they were wrong. */
export function Day({ spans }: { spans: readonly Schemas["Span"][] }) {
  const seen = quarters(spans, now());
  const path = (state: string, top: number) =>
    seen.map((one, n) => (one === state ? `M${n * STEP + 1.5} 15V${top}` : "")).join("");
  return (
    <svg className="day" width={seen.length * STEP} height="17" aria-hidden="true">
      <path d={`M0 16.5H${seen.length * STEP}`} stroke="var(--line-strong)" />
      <path d={path("fine", 9)} stroke="var(--ink-3)" strokeWidth="1" />
      <path d={path("wrong", 2)} stroke="var(--alarm)" strokeWidth="1.7" />
    </svg>
  );
}

const word = (state: string) =>
  state === "fine" ? "clear" : state === "broken" || state === "unreachable" ? "failed" : "unknown";

/** The sites of a network: one installation, shared code, one plan. */
export function Members({ view }: { view: View }) {
  const members = view.members ?? [];
  if (members.length === 0) return null;
  return (
    <section aria-label="On a network" className="pt-2 pb-2">
      <h2>
        On a network <span className="q font-normal">{view.members_text}</span>
      </h2>
      <table className="rows plainend">
        <thead>
          <tr>
            <th className="w-[86px]">pages</th>
            <th className="w-[200px]">member</th>
            <th className="w-[240px]">address</th>
            <th className="w-[92px]">looked at</th>
            <th className="w-[300px]">24 hours</th>
            <th>switched on there, beside what is on for all</th>
          </tr>
        </thead>
        <tbody>
          {members.map((member) => (
            <tr key={member.address} title={member.reason}>
              <td className={`is-${word(member.state)} whitespace-nowrap`}>
                <Glyph state={word(member.state)} /> {member.state}
              </td>
              <td className="nm">{member.name}</td>
              <td>
                <span className="v">{member.address.replace(/^https?:\/\//, "")}</span>
              </td>
              <td className="q">{view.pages_at ? <Age at={view.pages_at} /> : "never"}</td>
              <td>
                <Day spans={member.day} />
              </td>
              <td className="why">
                {member.on.join(", ") || "nothing more"}
                {member.state !== "fine" && <span className="block text-alarm">{member.reason}</span>}
                {member.day_text && <span className="qq"> · {member.day_text}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
