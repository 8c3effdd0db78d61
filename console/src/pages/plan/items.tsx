import { Moves } from "../../pieces/words";
import type { SitePlan } from "../../api/client";
import type { RailItem } from "../../rail/rail";
import { broughtText, kindOf } from "./state";

type Step = SitePlan["plan"]["steps"][number];

/** The steps of a plan as the rail draws them, with what surrounds them. */
export function itemsOf(
  planned: readonly Step[],
  names: Map<string, string>,
  brings: NonNullable<SitePlan["brings"]> = [],
): RailItem[] {
  const steps = planned.map((step, index): RailItem => {
    const kind = kindOf(step);
    const moves = step.moves.map((move) => ({
      name: names.get(move.product) ?? move.product,
      start: move.from,
      end: move.to,
    }));
    return {
      key: String(index),
      mark: { kind, number: index + 1, state: "planned" },
      content: (
        <>
          <p className="m">
            <Moves moves={moves} />
          </p>
          <p className="r">
            {step.waypoint && kind !== "combined" && <em className="not-italic">Waypoint. </em>}
            {(step.tied || step.moves.some((move) => !move.to)) && step.why}
          </p>
          {brings
            .filter((one) => one.step === index + 1)
            .map((one) => (
              <p key={one.kind + one.text} className="r">
                {broughtText(one)}
              </p>
            ))}
        </>
      ),
    };
  });
  return [
    {
      key: "before",
      mark: { kind: "guard" },
      content: (
        <p className="gd">Look that nothing has changed, snapshot, pause automatic updates, caches off</p>
      ),
    },
    ...steps,
    {
      key: "after",
      mark: { kind: "guard" },
      content: <p className="gd">Everything as it was, caches purged, last probe as a visitor</p>,
    },
  ];
}
