import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { asked, type Schemas } from "../../api/client";
import { Load } from "../../pieces/load";
import { Age } from "../../pieces/words";
import { Glyph } from "../../states/states";
import { atSites, wordOf } from "./state";

type Row = Schemas["CredentialRow"];

const BAD = new Set(["refused", "missing", "other code"]);
const OPEN = new Set(["not yet", "grace", "unknown", "not asked"]);
const mark = (state: string) => (BAD.has(state) ? "blocked" : OPEN.has(state) ? "unknown" : "clear");

/** Where each credential is used: by product, with the sites that run it and how it stands on each. */
export function Credentials() {
  const credentials = useQuery(asked.credentials());
  return (
    <section className="pt-2" aria-label="Where each credential is used">
      <div className="hd">
        <h2>Where each credential is used</h2>
        <span className="q text-[13px]">a feed’s stays with the service; a licence’s code stands on each site</span>
      </div>
      <Load query={credentials} rows={4}>
        {(rows) =>
          rows.length ? (
            <table className="rows plainend">
              <thead>
                <tr>
                  <th className="w-[210px]">of</th>
                  <th className="w-[190px]">credential</th>
                  <th className="w-[124px]">state</th>
                  <th className="w-[72px]">asked</th>
                  <th className="w-[170px]">product</th>
                  <th>sites</th>
                </tr>
              </thead>
              <tbody>
                {rows.map((row, n) => (
                  <Line key={`${row.feed ?? row.licence ?? ""} ${row.product}`} row={row} same={isSame(row, rows[n - 1])} />
                ))}
              </tbody>
            </table>
          ) : (
            <p className="q py-2">No feed has a credential, and no licence a code.</p>
          )
        }
      </Load>
    </section>
  );
}

const isSame = (row: Row, above: Row | undefined) =>
  above !== undefined && above.feed === row.feed && above.licence === row.licence;

/** A row; what it has in common with the one above it is not told again. */
function Line({ row, same }: { row: Row; same: boolean }) {
  return (
    <tr>
      <td className="nm whitespace-nowrap">{same ? "" : row.label}</td>
      <td className="v q whitespace-nowrap">{same ? "" : row.credential}</td>
      <td className={`is-${mark(row.state)} whitespace-nowrap`} title={row.text}>
        <Glyph state={mark(row.state)} /> {wordOf(row.state)}
      </td>
      <td className="q">{row.at ? <Age at={row.at} /> : "never"}</td>
      <td className="whitespace-nowrap">
        <Link className="hover:underline" to={`/products/${row.product}`}>
          {row.name}
        </Link>
      </td>
      <td className="why" title={row.sites.map((one) => `${one.label}: ${wordOf(one.state)}`).join("\n")}>
        {atSites(row.sites)}
      </td>
    </tr>
  );
}
