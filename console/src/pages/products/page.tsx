import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { asked, type Schemas } from "../../api/client";
import { Belt } from "../../belt/belt";
import { Load } from "../../pieces/load";
import { day, plural } from "../../pieces/time";
import { Word } from "../../pieces/word";
import { Glyph } from "../../states/states";
import { narrow } from "./filter";
import { strip, told } from "./strip";
import { Upload } from "../licences/shelf-upload";

type Row = Schemas["ProductRow"];

const WIDTH = 190;
const KINDS = ["core", "theme", "plugin", "runtime"];

export function ProductsPage() {
  const rows = useQuery(asked.products());
  const today = useQuery(asked.today());
  const [params, setParams] = useSearchParams();
  const filter = (name: string) => params.get(name) ?? "";
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const all = rows.data ?? [];
  const shown = narrow(all, params);
  const reached = all.filter((row) => row.advisories > 0);
  const subjects = reached.flatMap((row) =>
    row.versions.filter((use) => use.exposed > 0).flatMap((use) => use.sites),
  );
  const toDecide = all.filter((row) => row.decision === "asked").length;
  return (
    <>
      {today.data && (
        <Belt sites={today.data.sites} subjects={subjects}>
          <p className="caption">
            <b>
              {reached.length
                ? reached.map((row) => `${row.product.name}: an advisory reaches ${plural(count(row), "site")}`).join(". ")
                : "No advisory reaches a site"}
            </b>
            {plural(all.length, "product")}; {toDecide} wait for a decision of yours.
          </p>
        </Belt>
      )}
      <main id="main" className="page">
        <title>Products · Windbreak</title>
        <div className="head">
          <h1>Products</h1>
          <input
            className="in h-[30px] w-[240px] max-w-full text-[13px]"
            aria-label="Name, maker or folder"
            placeholder="Name, maker or folder"
            value={filter("text")}
            onChange={(event) => set("text", event.target.value)}
          />
          <span className="q">
            {shown.length < all.length ? `${shown.length} of ${all.length}` : all.length} on{" "}
            {plural(today.data?.sites.filter((s) => !s.twin_of).length ?? 0, "site")}, what wants attention
            first
          </span>
          <span className="sp" />
          <Upload />
        </div>
        <div className="words flex-wrap pb-2">
          <span>of</span>
          <Word any="any kind" value={filter("kind")} options={KINDS} onChange={(v) => set("kind", v)} />
          <span>by</span>
          <Word
            any="any maker"
            value={filter("maker")}
            options={[...new Set(all.map((r) => r.product.maker))].filter(Boolean).sort()}
            onChange={(v) => set("maker", v)}
          />
          <span>and</span>
          <Word
            any="any decision"
            value={filter("decision")}
            options={["to decide", "held", "decided"]}
            onChange={(v) => set("decision", v)}
          />
          <Key />
        </div>
        <Load query={rows} rows={20}>
          {() => <Table rows={shown} all={all.length} />}
        </Load>
      </main>
    </>
  );
}

const count = (row: Row) => row.versions.reduce((n, use) => n + use.exposed, 0);

function Key() {
  return (
    <span className="key ml-auto flex gap-4 text-[12px] max-[720px]:hidden">
      <span>
        <svg width="8" height="8" aria-hidden="true">
          <circle cx="4" cy="4" r="2.5" className="dot-site" />
        </svg>{" "}
        one site
      </span>
      <span>
        <svg width="8" height="8" aria-hidden="true">
          <path d="M4 .6 7.4 4 4 7.4.6 4Z" className="dot-exposed" />
        </svg>{" "}
        an advisory reaches it
      </span>
      <span>
        <svg width="8" height="8" aria-hidden="true">
          <circle cx="4" cy="4" r="2.5" className="dot-newest" />
        </svg>{" "}
        the newest
      </span>
      <span>
        <svg width="8" height="8" aria-hidden="true">
          <circle cx="4" cy="4" r="2.2" className="dot-empty" />
        </svg>{" "}
        on no site yet
      </span>
    </span>
  );
}

function Table({ rows, all }: { rows: Row[]; all: number }) {
  if (all === 0)
    return (
      <p className="q py-3">
        No product is known. Register a feed at a terminal:{" "}
        <span className="v">windbreak feed add ID LABEL ADDRESS</span>
      </p>
    );
  if (rows.length === 0) return <p className="q py-3">No product fits. All {all} are still there.</p>;
  return (
    <table className="rows plainend">
      <thead>
        <tr>
          <th>product</th>
          <th>maker</th>
          <th className="num">newest</th>
          <th>since</th>
          <th style={{ width: WIDTH + 12 }}>versions in use, oldest to newest</th>
          <th className="num">sites</th>
          <th className="k">
            <Glyph state="ready" /> may
          </th>
          <th className="k">
            <Glyph state="waiting" /> wait
          </th>
          <th className="k">
            <Glyph state="blocked" /> can’t
          </th>
          <th>advisory</th>
          <th>decided</th>
          <th>origin</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.product.id}>
            <td className="whitespace-nowrap">
              <Link to={`/products/${row.product.id}`} className="nm hover:underline">
                {row.product.name}
              </Link>
              <span className="kind">{row.product.kind}</span>
            </td>
            <td className="q whitespace-nowrap">
              {row.product.withdrawn_at ? "withdrawn" : row.product.maker || "not told"}
            </td>
            <td className="num v">{row.newest ?? "–"}</td>
            <td className="q whitespace-nowrap">{row.since ? day(row.since).slice(4) : "–"}</td>
            <td>
              <StripPicture row={row} />
            </td>
            <td className="num whitespace-nowrap">
              {row.sites}
              {row.twins > 0 && <span className="text-ink-3"> + {row.twins}</span>}
            </td>
            <td className="k text-ready">{cell(row.may)}</td>
            <td className="k text-wait">{cell(row.wait)}</td>
            <td className="k text-block">{cell(row.cannot)}</td>
            <td className="whitespace-nowrap">
              {row.advisories > 0 ? (
                <span className="is-exposed">
                  <Glyph state="exposed" /> {row.advisories}, {row.severity}
                </span>
              ) : (
                <span className="z">·</span>
              )}
            </td>
            <td className="max-w-[200px] truncate" title={row.decided}>
              {row.decision === "asked" ? (
                <Link to={`/products/${row.product.id}`} className="t underline">
                  {row.decided}
                </Link>
              ) : (
                <>
                  {row.decision === "held" && <Glyph state="held" />} {row.decided}
                </>
              )}
            </td>
            <td className="or whitespace-nowrap">{row.origin}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const cell = (n: number) => (n ? n : <span className="z">·</span>);

function StripPicture({ row }: { row: Row }) {
  const drawn = strip(row.versions, row.newest, WIDTH);
  return (
    <svg className="strip" width={WIDTH} height="26" role="img" aria-label={told(row.versions) || "no site"}>
      <title>{told(row.versions)}</title>
      {drawn.lines.map((line) => (
        <path
          key={line.x1}
          d={`M${line.x1} 23.5H${line.x2}`}
          className={line.newest ? "line-newest" : "line-site"}
        />
      ))}
      {drawn.dots.map((dot, index) =>
        dot.kind === "exposed" ? (
          <path
            key={index}
            d={`M${dot.x} ${dot.y - 3.4}l3.4 3.4-3.4 3.4-3.4-3.4Z`}
            className="dot-exposed"
          />
        ) : (
          <circle
            key={index}
            cx={dot.x}
            cy={dot.y}
            r={dot.kind === "empty" ? 2.2 : 2.5}
            className={`dot-${dot.kind}`}
          />
        ),
      )}
      {drawn.labels.map((label) => (
        <text key={label.text} x={label.x} y="21.5" textAnchor="end">
          {label.text}
        </text>
      ))}
    </svg>
  );
}
