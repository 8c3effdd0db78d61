import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { asked, type Schemas } from "../../api/client";
import { Load } from "../../pieces/load";
import { now } from "../../pieces/now";
import { day } from "../../pieces/time";
import { Word } from "../../pieces/word";
import { monthName, months } from "./months";

/** What a client is told of a month: seen here as it will be, then printed or kept as a file. */
export function Report({ clients, first, since }: { clients: string[]; first: string; since: string | null }) {
  const options = months(since, now());
  const [client, setClient] = useState("");
  const [month, setMonth] = useState(options[0] ?? "");
  const [looks, setLooks] = useState(false);
  const usual = first || clients[0] || "";
  const whose = client || usual;
  const report = useQuery({ ...asked.report(whose, month, looks), enabled: whose !== "" });
  return (
    <aside className="rep" aria-label="Report for a client">
      <h2>Report for a client</h2>
      {whose === "" ? (
        <p className="q py-3">No site has a client yet. Give one on the site’s page: then its months can be told.</p>
      ) : (
        <>
          <div className="words flex-wrap py-2">
            <span>for</span>
            <Word any={usual} value={client} options={clients.filter((one) => one !== usual)} onChange={setClient} />
            <span>of</span>
            <Word
              any={monthName(options[0]!)}
              value={month === options[0] ? "" : monthName(month)}
              options={options.slice(1).map(monthName)}
              onChange={(name) => setMonth(options.find((one) => monthName(one) === name) ?? options[0]!)}
            />
          </div>
          <Load query={report} rows={6}>
            {(told) => <Paper report={told} />}
          </Load>
          <label className="pick pt-2">
            <input type="checkbox" checked={looks} onChange={(event) => setLooks(event.target.checked)} />
            <span>with what was seen after each step</span>
          </label>
          <div className="flex flex-wrap gap-2 pt-2">
            <button className="btn go" disabled={!report.data} onClick={() => window.print()}>
              Print the report
            </button>
            <a
              className="btn"
              download={`${whose} ${month}.md`}
              href={`/api/v1/report/text?${new URLSearchParams({ client: whose, month, looks: String(looks) })}`}
            >
              Keep it as a file
            </a>
          </div>
          <p className="qq pt-2">Written from the ledger. Names no other client and no account.</p>
        </>
      )}
    </aside>
  );
}

function Paper({ report }: { report: Schemas["ClientReport"] }) {
  return (
    <article className="pap">
      <h3>{report.client}</h3>
      <span className="qq">
        {day(`${report.first}T12:00:00`)} to {day(`${report.last}T12:00:00`)}
      </span>
      {report.sites.map((site) => (
        <section key={site.site} aria-label={site.label}>
          {(report.sites.length > 1 || site.label !== report.client) && <h4>{site.label}</h4>}
          <p>{site.head}</p>
          {site.done.length + site.seen.length > 0 && (
            <ul>
              {[...site.done, ...site.seen].map((line, index, every) => (
                <li key={`${line.day} ${line.text}`}>
                  <span>{every[index - 1]?.day === line.day ? "" : shortDay(line.day)}</span>
                  <span>{line.text}</span>
                </li>
              ))}
            </ul>
          )}
          <Said title="Still to come" texts={site.to_come} />
          <Said title="Left alone on purpose" texts={site.left} />
          <Said title="Asked of you" texts={site.asked} />
        </section>
      ))}
      {report.sites.length === 0 && <p>None of their sites is live.</p>}
    </article>
  );
}

const shortDay = (of: string) => day(`${of}T12:00:00`).split(" ").slice(0, 2).join(" ");

function Said({ title, texts }: { title: string; texts: readonly string[] }) {
  if (texts.length === 0) return null;
  return (
    <p>
      <b>{title}.</b> {texts.join(" ")}
    </p>
  );
}
