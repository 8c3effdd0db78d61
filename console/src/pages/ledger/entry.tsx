import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { asked } from "../../api/client";
import { Load } from "../../pieces/load";
import { clock, day } from "../../pieces/time";
import { Sentence } from "../../pieces/words";
import { Glyph } from "../../states/states";
import { type Line, resultOf, unfolded } from "./state";

const OURS = "Windbreak";

/** One line; what it tells of a run can be unfolded. */
export function Entry({ line, open, onOpen }: { line: Line; open: boolean; onOpen: () => void }) {
  const { state, word } = resultOf(line, OURS);
  const more = line.run != null;
  const named = line.label !== line.subject && !line.what.includes(line.label);
  return (
    <>
      <tr className={open ? "sel" : undefined}>
        <td className="v q" title={`${day(line.at)}, ${clock(line.at)}`}>
          {clock(line.at)}
        </td>
        <td className="w">{line.who}</td>
        <td className="x">
          <p>
            {named && `${line.label}: `}
            {more ? (
              <button className="t" aria-expanded={open} onClick={onOpen}>
                {line.what}
              </button>
            ) : (
              line.what
            )}
          </p>
          {!open && line.why && <p className="q">“{line.why}”</p>}
          {!open && line.result && (
            <p className="q">
              <Sentence text={line.result} />
            </p>
          )}
        </td>
        <td className="r">
          {state ? (
            <span className={`st is-${state}`}>
              <Glyph state={state} /> {word}
            </span>
          ) : (
            <span className="q">{word}</span>
          )}
        </td>
      </tr>
      {open && line.run != null && (
        <tr className="sel unf">
          <td />
          <td colSpan={3}>
            <Unfolded line={line} run={line.run} />
          </td>
        </tr>
      )}
    </>
  );
}

function Unfolded({ line, run }: { line: Line; run: number }) {
  const story = useQuery(asked.run(run));
  const [copied, setCopied] = useState(false);
  const address = () => `${window.location.origin}/ledger?entry=${line.id}`;
  return (
    <div className="un">
      <Load query={story} rows={3}>
        {(told) => (
          <dl>
            {unfolded(line, told).map(({ term, text }) => (
              <div key={term}>
                <dt>{term}</dt>
                <dd>
                  <Sentence text={text} />
                </dd>
              </div>
            ))}
          </dl>
        )}
      </Load>
      <p className="lk">
        <Link className="t" to={`/runs/${run}`}>
          Open the run
        </Link>
        {line.about === "site" && (
          <Link className="t" to={`/sites/${line.subject}`}>
            Open the site
          </Link>
        )}
        <button
          className="t"
          onClick={() => void navigator.clipboard?.writeText(address()).then(() => setCopied(true))}
        >
          {copied ? "The address is copied" : "Copy the address of this entry"}
        </button>
      </p>
    </div>
  );
}
