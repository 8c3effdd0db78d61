import { useMutation } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import { api, queries, type Schemas, told } from "../../api/client";
import { ActLink } from "../../pieces/act-link";
import { plural } from "../../pieces/time";
import { Arrow } from "../../pieces/words";
import { Glyph, StateWord } from "../../states/states";
import { byVersion, partsBesides, partsUnder, urgent } from "./state";

type View = Schemas["SiteView"];
type Root = Schemas["RootView"];

/** What is installed, under what keeps it back. */
export function Components({ view }: { view: View }) {
  if (view.components.length === 0)
    return (
      <p className="q py-3">
        What is installed here is not known. Link the site at a terminal, then refresh it:{" "}
        <span className="v">windbreak site link {view.summary.id}</span>
      </p>
    );
  return (
    <table className="rows plainend">
      <thead>
        <tr>
          <th className="w-[86px]">state</th>
          <th className="w-[190px]">component</th>
          <th className="w-[184px]">origin on this site</th>
          <th className="w-[150px]">installed, target</th>
          <th>why not newer, or what it takes</th>
          <th className="num">
            <span className="sr-only">more</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {urgent(view.roots, view.components).map((one) => (
          <Component key={one.product} one={one} site={view.summary.id} />
        ))}
        {view.roots.map((root) => (
          <Fragment key={root.id}>
            <RootRow root={root} />
            {partsUnder(root, view.components).map((one) => (
              <Component key={one.product} one={one} site={view.summary.id} under />
            ))}
          </Fragment>
        ))}
        {partsBesides(view.roots, view.components).map((one, n) => (
          <Component key={one.product} one={one} site={view.summary.id} first={n === 0 && view.roots.length > 0} />
        ))}
      </tbody>
    </table>
  );
}

/** What keeps several components back, told once, with what would change it. */
function RootRow({ root }: { root: Root }) {
  return (
    <tr className="root">
      <td>
        <span className="is-blocked whitespace-nowrap">
          <Glyph state="blocked" /> blocks {root.keeps.length}
        </span>
      </td>
      <td colSpan={5}>
        <span className="flex items-baseline justify-between gap-6">
          <span>
            <b>{root.text}</b> {root.keeps_text}
          </span>
          <span className="act shrink-0">
            {root.ways.map((way) => (
              <ActLink key={way.label} act={way} />
            ))}
          </span>
        </span>
      </td>
    </tr>
  );
}

type Part = View["components"][number];

function Component({ one, site, under, first }: { one: Part; site: string; under?: boolean; first?: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <tr className={first ? "top" : undefined}>
        <td>
          <StateWord state={one.state} />
        </td>
        <td className={under ? "in1 whitespace-nowrap" : "whitespace-nowrap"}>
          <Link className="nm hover:underline" to={`/products/${one.product}`}>
            {one.name}
          </Link>
          <span className="kind">
            {one.where ? `${one.kind}, ${one.where}` : one.active ? one.kind : one.kind === "theme" ? "spare theme" : `${one.kind}, off`}
          </span>
        </td>
        <td className="or">{one.origin}</td>
        <td>
          <span className="v">
            {one.version ?? "absent"}
            {one.target && (
              <>
                <Arrow />
                {one.target}
              </>
            )}
          </span>
        </td>
        <td className="why">
          {under && one.acts?.length ? <Under one={one} /> : one.text}
          <Acts one={one} site={site} under={under} />
        </td>
        <td className="num">
          <button className="t underline" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Less" : "More"}
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={6} className="more">
            <More one={one} site={site} />
          </td>
        </tr>
      )}
    </>
  );
}

/** Of a component whose root is told above it: what each act would bring. */
function Under({ one }: { one: Part }) {
  return (
    <span title={one.text}>
      {byVersion(one.acts ?? [], one.newest ?? "").map(([version, texts]) => (
        <span key={version} className="block">
          To <span className="v">{version}</span>: {texts.join(", or: ")}.
        </span>
      ))}
    </span>
  );
}

/** What would bring it on, the first act said, each to be seen without changing anything. */
function Acts({ one, site, under }: { one: Part; site: string; under?: boolean }) {
  const [first, ...others] = one.acts ?? [];
  if (!first) return null;
  const query = new URLSearchParams(first.suppose.map((text): [string, string] => ["if", text]));
  return (
    <span className="block text-ink" title={others.map((other) => `Or: ${other.text}.`).join("\n")}>
      {!under && `${first.brings ? `To ${first.brings}: ` : ""}${first.text}. `}
      <Link className="t underline" to={`/sites/${site}/plan?${query.toString()}`}>
        See it
      </Link>
    </span>
  );
}

/** The four answers to "newest", what lies between, and the mark of what was made for the site. */
function More({ one, site }: { one: Part; site: string }) {
  const [kind = "", slug = ""] = one.product.split("/");
  const mark = useMutation({
    mutationFn: () => {
      const path = { params: { path: { id: site, kind, slug } } };
      const way = "/api/v1/sites/{id}/own/{kind}/{slug}";
      return told(one.own ? api.DELETE(way, path) : api.PUT(way, path));
    },
    onSettled: () => void queries.invalidateQueries({ queryKey: ["site", site] }),
  });
  const four: [string, string | null | undefined][] = [
    ["known to its maker", one.four?.maker],
    ["carried by this site’s theme", one.four?.carried],
    ["its licence allows", one.four?.licence],
    ["policy allows", one.four?.policy],
  ];
  const passes = one.passes;
  return (
    <div className="grid gap-x-8 gap-y-2 py-2 text-[13px] md:grid-cols-[280px_1fr]">
      <dl className="grid grid-cols-[1fr_auto] gap-x-3">
        <dt className="qq col-span-2">newest, four answers</dt>
        {four.map(([word, version]) => (
          <div key={word} className="contents">
            <dt className="q">{word}</dt>
            <dd className="v">{version ?? "–"}</dd>
          </div>
        ))}
        {one.folder && (
          <>
            <dt className="q">its folder</dt>
            <dd className="v">{one.folder}</dd>
          </>
        )}
      </dl>
      <div>
        {passes ? (
          <>
            <p className="qq">
              {passes.start} to {passes.end} passes {plural(passes.releases.length, "release")}
              {passes.silent.length > 0 && `; ${passes.silent.join(", ")} say nothing of what changed`}
            </p>
            <ul>
              {passes.changes.slice(0, 12).map((told) => (
                <li key={told.version + told.change.text}>
                  <span className="v">{told.version}</span>{" "}
                  <span
                    className={
                      told.change.kind === "security" || told.change.kind === "breaking" ? "text-alarm" : "q"
                    }
                  >
                    {told.change.kind}
                  </span>{" "}
                  {told.change.text}
                </li>
              ))}
              {passes.changes.length > 12 && <li className="qq">and {passes.changes.length - 12} more</li>}
            </ul>
            {passes.licence && (
              <p>
                From <span className="v">{passes.licence_at}</span> it asks for a {passes.licence.form} licence
                {passes.licence.grace_days ? `, with ${plural(passes.licence.grace_days, "day")} of grace` : ""}.
              </p>
            )}
            {passes.tasks.map((task) => (
              <p key={task.text}>
                Afterwards, by {task.by === "agent" ? "the agent" : "a person"}: {task.text}.
              </p>
            ))}
          </>
        ) : (
          <p className="qq">Nothing lies between it and the newest.</p>
        )}
        {one.kind !== "runtime" && one.kind !== "core" && one.version && (
          <p className="pt-1">
            <button className="t underline" disabled={mark.isPending} onClick={() => mark.mutate()}>
              {one.own ? "It was not made for this site" : "It was made for this site"}
            </button>
            <span className="qq">
              {" "}
              {one.own ? "Offers of its name are taken again." : "Offers that share its folder’s name are refused."}
            </span>
          </p>
        )}
      </div>
    </div>
  );
}
