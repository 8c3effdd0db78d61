import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { asked } from "../../api/client";
import { Load } from "../../pieces/load";
import { Rail } from "../../rail/rail";
import { itemsOf } from "./items";

/** What if: acts are taken as done, and nothing is changed. They live in the address, as `if`. */
export function Suppose({ names, site }: { names: Map<string, string>; site: string }) {
  const [search, setSearch] = useSearchParams();
  const suppose = search.getAll("if");
  const put = (list: string[]) => {
    setSearch(list.map((text): [string, string] => ["if", text]));
  };
  return (
    <section aria-label="What if" className="border-b border-line-strong py-2">
      <Ask
        onAsk={(text) => {
          put([...suppose, text]);
        }}
      />
      {suppose.length > 0 && (
        <Supposed site={site} names={names} suppose={suppose} onPut={put} />
      )}
    </section>
  );
}

function Ask({ onAsk }: { onAsk: (text: string) => void }) {
  const [text, setText] = useState("");
  return (
    <form
      className="flex items-center gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim()) onAsk(text.trim());
        setText("");
      }}
    >
      <label className="lb" htmlFor="suppose">
        What if
      </label>
      <input
        id="suppose"
        className="in w-80"
        autoComplete="off"
        spellCheck={false}
        placeholder="offer loom 8.1 on jetty"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <button className="btn" type="submit">
        See it
      </button>
      <span className="qq">changes nothing</span>
    </form>
  );
}

function Supposed({
  site,
  names,
  suppose,
  onPut,
}: {
  site: string;
  names: Map<string, string>;
  suppose: string[];
  onPut: (list: string[]) => void;
}) {
  const outlook = useQuery({ ...asked.outlook(site, suppose), retry: false });
  return (
    <>
      <ul className="flex flex-wrap gap-2 py-2">
        {suppose.map((text) => (
          <li key={text} className="text-[13px]">
            <span className="v">{text}</span>{" "}
            <button className="t underline" onClick={() => onPut(suppose.filter((one) => one !== text))}>
              without it
            </button>
          </li>
        ))}
      </ul>
      <Load query={outlook} rows={4}>
        {(view) => (
          <div className="two">
            <div>
              <p className="q pb-2">
                As it would be. Nothing was changed, and no plan is kept.{" "}
                <button className="t underline" onClick={() => onPut([])}>
                  Back to how it is
                </button>
              </p>
              {view.plan.steps.length > 0 ? (
                <Rail items={itemsOf(view.plan.steps, names)} label="Steps as they would be" />
              ) : (
                <p className="q">Nothing would move.</p>
              )}
            </div>
            <div>
              <h2 className="border-b border-line-strong pb-1">What would be otherwise</h2>
              {view.changes.length === 0 && <p className="out">Nothing: it would change nothing here.</p>}
              <ul className="out">
                {view.supposed
                  .filter((one) => !one.here)
                  .map((one) => (
                    <li key={one.text}>“{one.text}” does not touch this site.</li>
                  ))}
                {view.changes.map((one) => (
                  <li key={one.product}>{one.text}</li>
                ))}
              </ul>
            </div>
          </div>
        )}
      </Load>
    </>
  );
}
