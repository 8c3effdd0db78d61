import { useState } from "react";
import { clock, day, plural } from "../../pieces/time";
import { About } from "./about";
import { keyOf, type Night, type Nights } from "./layout";
import { byNight, look, standing } from "./state";

/** The nights for a narrow page: each folds; the one that comes next is open. */
export function NightList({
  nights,
  current,
  onPick,
}: {
  nights: Nights;
  current: Night | undefined;
  onPick: (key: string) => void;
}) {
  const list = byNight(nights);
  const next = list.find((one) => current && one.night.some((night) => keyOf(night) === keyOf(current)));
  const [open, setOpen] = useState<string | null>(null);
  const shown = open ?? next?.start ?? "";
  return (
    <div className="nightlist">
      {list.length === 0 && <p className="q py-3">Nothing is booked in these nights.</p>}
      {list.map((one) => {
        const urgent = one.night.filter((night) => look(night) === "urgent");
        return (
          <section key={one.start}>
            <button
              className="fold"
              aria-expanded={shown === one.start}
              onClick={() => setOpen(shown === one.start ? "none" : one.start)}
            >
              <span aria-hidden="true">{shown === one.start ? "⌄" : "›"}</span>
              <b>{day(one.start).slice(0, 6)}</b> <span className="q">to {day(new Date(Date.parse(one.start) + 86_400_000)).slice(0, 3)}</span>
              <span className="sp" />
              <span className="q">{count(one.night)}</span>
            </button>
            {one.frozen.map((freeze) => (
              <p key={freeze.freeze} className="frozen-row">
                frozen: {freeze.reason}
              </p>
            ))}
            {(shown === one.start ? one.night : urgent).map((night) => (
              <div key={keyOf(night)}>
                <button className={`nl ${look(night)}`} onClick={() => onPick(keyOf(night))}>
                  <span className="v">{clock(night.starts_at)}</span>
                  <i className={`night ${look(night)}`} />
                  <span className="nm">
                    {night.label}
                    <span className="sr-only">, {standing(night)}</span>
                  </span>
                  <span className="q">
                    {nights.hosts.find((host) => host.id === night.host)?.name ?? "elsewhere"}, {Math.round((Date.parse(night.ends_at) - Date.parse(night.starts_at)) / 60_000)} min
                  </span>
                </button>
                {current && keyOf(night) === keyOf(current) && (
                  <div className="nl-about">
                    <About night={night} />
                  </div>
                )}
              </div>
            ))}
          </section>
        );
      })}
    </div>
  );
}

function count(nights: Night[]): string {
  const approved = nights.filter((night) => night.state === "approved").length;
  if (nights.length === 0) return "";
  return approved === nights.length ? `${approved} approved` : `${plural(nights.length, "site")}, ${approved} approved`;
}
