import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { asked } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Load } from "../../pieces/load";
import { now } from "../../pieces/now";
import { plural } from "../../pieces/time";
import { Word } from "../../pieces/word";
import { Entry } from "./entry";
import { Report } from "./report";
import { asQuery, captionOf, type Filter, groups, PARTS, readFilter, sinces, writeFilter } from "./state";

const MORE = 100; // lines in one answer

export function LedgerPage() {
  const [params, setParams] = useSearchParams();
  const filter = readFilter(params);
  const wanted = asQuery(filter);
  const open = Number(params.get("entry")) || null;
  const narrow = (change: Partial<Filter>) =>
    setParams(writeFilter({ ...filter, ...change }), { replace: true });
  const unfold = (id: number | null) => {
    const next = writeFilter(filter);
    if (id !== null) next.set("entry", String(id));
    setParams(next, { replace: true });
  };
  const summary = useQuery(asked.ledgerSummary(wanted));
  const pages = useInfiniteQuery({
    ...asked.ledger(wanted, MORE),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => (last.length < MORE ? null : last.at(-1)!.id),
  });
  const told = summary.data;
  const dates = sinces(now());
  const today = useQuery(asked.today());
  const lines = pages.data?.pages.flat() ?? [];
  const unfolded = lines.find((line) => line.id === open);
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={unfolded?.about === "site" ? [unfolded.subject] : []}>
          <p className="caption">
            <b>{unfolded ? captionOf(unfolded) : lines[0] ? captionOf(lines[0]) : "Nothing yet"}</b>
            {told && `${plural(told.wanted, "entry", "entries")}${told.wrong ? `, ${plural(told.wrong, "run")} put back or failed` : ""}.`}
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>Ledger · Windbreak</title>
        <div className="head">
          <h1>Ledger</h1>
          <input
            className="in h-[30px] w-[300px] max-w-full text-[13px]"
            aria-label="Site, product, person or word of a reason"
            placeholder="Site, product, person or word of a reason"
            value={filter.words}
            onChange={(event) => narrow({ words: event.target.value })}
          />
          <span className="q">every decision and act, newest first; nothing is ever taken out</span>
          <span className="sp" />
          {told && (
            <span className="qq">
              {told.wanted} of {plural(told.lines, "entry", "entries")}
            </span>
          )}
          <a
            className="btn"
            download="ledger.csv"
            href={`/api/v1/ledger.csv?${new URLSearchParams(Object.entries(wanted).map(([key, value]) => [key, String(value)]))}`}
          >
            Export as CSV
          </a>
        </div>
        <div className="cols with-paper">
          <section aria-label="Entries">
            <div className="words flex-wrap pb-2">
              <span>since</span>
              <Word
                any="the beginning"
                value={dates.find((one) => one.value === filter.since)?.label ?? filter.since}
                options={dates.map((one) => one.label)}
                onChange={(label) =>
                  narrow({ since: dates.find((one) => one.label === label)?.value ?? "" })
                }
              />
              <span>by</span>
              <Word any="anyone" value={filter.by} options={told?.people ?? []} onChange={(by) => narrow({ by })} />
              <span>for</span>
              <Word
                any="any client"
                value={filter.client}
                options={told?.clients ?? []}
                onChange={(client) => narrow({ client })}
              />
              <span>of</span>
              <Word
                any="decisions and acts"
                value={filter.part && PARTS[filter.part]}
                options={Object.values(PARTS)}
                onChange={(word) =>
                  narrow({ part: word === PARTS.decisions ? "decisions" : word === PARTS.acts ? "acts" : "" })
                }
              />
              <span className="flex-1" />
              {told && (
                <button
                  className={filter.result ? "word on x" : "word plain"}
                  aria-pressed={filter.result !== ""}
                  onClick={() => narrow({ result: filter.result ? "" : "put back or failed" })}
                >
                  put back or failed
                  {!filter.result && <small>{told.wrong}</small>}
                </button>
              )}
            </div>
            <Load query={pages}>
              {() => {
                if (lines.length === 0)
                  return (
                    <p className="q py-3">
                      {told?.lines
                        ? "Nothing of that is in the ledger."
                        : "Nothing has been decided or done yet. Whatever is, stands here with who and why."}
                    </p>
                  );
                return (
                  <>
                    <table className="lg plainend">
                      <thead className="sr-only">
                        <tr>
                          <th>when</th>
                          <th>who</th>
                          <th>what, and why</th>
                          <th>result</th>
                        </tr>
                      </thead>
                      {groups(lines).map((group) => (
                        <tbody key={`${group.title} ${group.lines[0]!.id}`}>
                          <tr className="day">
                            <td colSpan={4}>
                              <b>{group.title}</b> <span className="qq">{group.aside}</span>
                            </td>
                          </tr>
                          {group.lines.map((line) => (
                            <Entry
                              key={line.id}
                              line={line}
                              open={open === line.id}
                              onOpen={() => unfold(open === line.id ? null : line.id)}
                            />
                          ))}
                        </tbody>
                      ))}
                    </table>
                    {pages.hasNextPage && (
                      <button className="btn mt-3" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
                        Older entries
                      </button>
                    )}
                  </>
                );
              }}
            </Load>
          </section>
          <Report clients={[...(told?.clients ?? [])]} first={filter.client} since={told?.since ?? null} />
        </div>
      </main>
    </>
  );
}
