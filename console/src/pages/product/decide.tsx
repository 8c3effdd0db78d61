import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { day, plural } from "../../pieces/time";

type View = Schemas["ProductView"];

/** What a person decides of a product: which package is right, a hold, what is not taken. */
export function Decide({ view }: { view: View }) {
  const undecided = view.releases.find((one) => one.republished && !one.republished.decided);
  const products = useQuery(asked.products());
  const nameOf = (id: string) =>
    products.data?.find((row) => row.product.id === id)?.product.name ?? id.split("/")[1];
  return (
    <aside className="side dec">
      {undecided && <Twice product={view.row.product.id} release={undecided} />}
      <section>
        <h2>Hold</h2>
        <p className="q py-2 text-[13px]">
          Nobody takes it until you lift it or the hold ends. Where it is tied to others they stay as well, and
          are named.
        </p>
        <Hold view={view} />
        {view.row.decided.startsWith("held") && (
          <p className="pt-2 text-[13px]">
            Now: {view.row.decided}. Lift it at a terminal:{" "}
            <span className="v">windbreak product holds</span>
          </p>
        )}
      </section>
      <Tied view={view} />
      <Rules view={view} />
      {view.lags.some((lag) => lag.days !== null) && (
        <section>
          <h2>Own or carried</h2>
          {view.lags.map((lag) => (
            <p key={lag.theme} className="q pt-2 text-[13px]">
              Carried by {nameOf(lag.theme)}, it comes{" "}
              <b className="text-ink">{plural(lag.days ?? 0, "day")}</b> later, going by{" "}
              {plural(lag.releases, "release")}. An own licence costs money and no wait.
            </p>
          ))}
        </section>
      )}
    </aside>
  );
}

const WATCHED = { any: "every move", major: "majors", migration: "what migrates" } as const;

const MUST = {
  exact: "be exactly equal",
  minor: "match in their first two numbers",
  major: "match in their first number",
} as const;

/** What must match it, and what does not go together with it, as the house has entered it. */
function Tied({ view }: { view: View }) {
  const { id } = view.row.product;
  const groups = view.lockstep ?? [];
  const clashes = view.clashes ?? [];
  if (groups.length + clashes.length === 0) return null;
  return (
    <section aria-label="Tied to others">
      <h2>Tied to others</h2>
      {groups.map((group) => (
        <p key={group.id} className="pt-2 text-[13px]">
          It and <Products ids={group.products.filter((one) => one !== id)} /> must{" "}
          {MUST[group.match ?? "exact"]}: one that is held keeps the others.{" "}
          <span className="q">
            {group.reason} ({group.author})
          </span>
        </p>
      ))}
      {clashes.map((clash) => {
        const [mine, other] = clash.a.product === id ? [clash.a, clash.b] : [clash.b, clash.a];
        return (
          <p key={clash.id} className="pt-2 text-[13px]">
            <span className="v">{mine.range}</span> clashes with <Products ids={[other.product]} />{" "}
            <span className="v">{other.range}</span>.{" "}
            <span className="q">
              {clash.reason} ({clash.author})
            </span>
          </p>
        );
      })}
    </section>
  );
}

function Products({ ids }: { ids: string[] }) {
  return ids.map((id, n) => (
    <span key={id}>
      {n > 0 && ", "}
      <Link className="tap hover:underline" to={`/products/${id}`}>
        {id}
      </Link>
    </span>
  ));
}

/** The rules of the house that speak of this product, of its maker, or of everything. */
function Rules({ view }: { view: View }) {
  const rules = useQuery(asked.rules());
  const { id, maker } = view.row.product;
  const touching = (rules.data ?? []).filter(
    (rule) =>
      (!rule.product || rule.product === id) &&
      (!rule.maker || rule.maker.toLowerCase() === maker?.toLowerCase()),
  );
  if (touching.length === 0) return null;
  return (
    <section aria-label="Rules">
      <h2>Rules of the house</h2>
      {touching.map((rule) => (
        <p key={rule.id} className="pt-2 text-[13px]">
          <b>{rule.site ?? rule.client ?? "The fleet"}</b>
          {rule.maker && `, all of ${rule.maker}`}: {said(rule)}.{" "}
          <span className="q">
            {rule.reason} ({rule.author}
            {rule.until && `, until ${day(rule.until)}`})
          </span>
        </p>
      ))}
    </section>
  );
}

function said(rule: Schemas["Rule"]): string {
  const soak = Object.entries(rule.soak ?? {}).map(([kind, days]) => `${kind} soaks ${plural(days, "day")}`);
  const channels = rule.channels ? [`channels ${rule.channels.join(", ")}`] : [];
  const take = { "by-itself": "taken by itself", ask: "asked first", never: "never taken" };
  const far = rule.jump ? `, no further than a ${rule.jump}` : "";
  const taken = rule.take ? [`${take[rule.take]}${far}`] : [];
  const watched = rule.watch ? [`watched: ${rule.watch.map((one) => WATCHED[one]).join(", ") || "nothing"}`] : [];
  return [...soak, ...channels, ...taken, ...watched].join("; ");
}

function Twice({ product, release }: { product: string; release: Schemas["KnownRelease"] }) {
  const [keep, setKeep] = useState<"first" | "new" | null>(null);
  const [why, setWhy] = useState("");
  const [kind = "", slug = ""] = product.split("/");
  const decide = useMutation({
    mutationFn: () =>
      told(
        api.POST("/api/v1/products/{kind}/{slug}/releases/{version}/decision", {
          params: { path: { kind, slug, version: release.version } },
          body: { keep: keep ?? "first", why },
        }),
      ),
    onSuccess: () => {
      setKeep(null);
      void queries.invalidateQueries();
    },
  });
  const again = release.republished;
  return (
    <section>
      <h2>Which {release.version} is right?</h2>
      <p className="q py-2 text-[13px]">
        First <span className="v">{again?.first.slice(0, 10)}…</span>, now{" "}
        <span className="v">{(again?.now.sha256 ?? "another size").slice(0, 10)}…</span>. It goes to no site until
        you say which is right. Ask its maker first.
      </p>
      <div className="flex gap-2">
        <button className="btn" onClick={() => setKeep("first")}>
          The first…
        </button>
        <button className="btn" onClick={() => setKeep("new")}>
          The new one…
        </button>
      </div>
      <Ask
        open={keep !== null}
        title={`Of ${release.title} the ${keep} package is right`}
        go={`Take the ${keep} package`}
        busy={decide.isPending}
        ready={why.trim() !== ""}
        failed={decide.isError ? decide.error.message : null}
        onGo={() => decide.mutate()}
        onLeave={() => setKeep(null)}
      >
        <p className="pb-2">
          Sites may take {release.title} again, with the {keep} package and no other. Sites that have it keep
          what they have.
        </p>
        <Field label="Why" value={why} onChange={setWhy} hint="For the ledger, in your own words." />
      </Ask>
    </section>
  );
}

function Hold({ view }: { view: View }) {
  const { id, name } = view.row.product;
  const { newest } = view.row;
  const tied = (view.lockstep ?? []).flatMap((group) => group.products);
  const frozen = [...new Set(tied)].filter((one) => one !== id).sort();
  const [open, setOpen] = useState(false);
  const [range, setRange] = useState(newest ? `>=${newest}` : "*");
  const [until, setUntil] = useState("");
  const [reason, setReason] = useState("");
  const hold = useMutation({
    mutationFn: () =>
      told(
        api.POST("/api/v1/holds", {
          body: { product: id, range, reason, until: until || null },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      void queries.invalidateQueries();
    },
  });
  const ask = (versions: string) => {
    setRange(versions);
    setOpen(true);
  };
  const skips = newest !== null && range === `=${newest}`;
  return (
    <>
      <div className="flex gap-2">
        <button className="btn" onClick={() => ask(newest ? `>=${newest}` : "*")}>
          Hold…
        </button>
        {newest && (
          <button className="btn" onClick={() => ask(`=${newest}`)}>
            Skip {newest}…
          </button>
        )}
      </div>
      <Ask
        open={open}
        title={skips ? `Skip ${name} ${newest}` : `Hold ${name}`}
        go={skips ? "Skip it everywhere" : "Hold it everywhere"}
        busy={hold.isPending}
        ready={reason.trim() !== ""}
        failed={hold.isError ? hold.error.message : null}
        onGo={() => hold.mutate()}
        onLeave={() => setOpen(false)}
      >
        <Field label="Versions" value={range} onChange={setRange} hint="A range, as >=1.9 or *" />
        <Field label="Until" type="date" value={until} onChange={setUntil} hint="Empty: until you lift it." />
        <Field label="Why" value={reason} onChange={setReason} />
        {skips && <p className="hint">What comes after {newest} is taken as usual.</p>}
        {frozen.length > 0 && (
          <p className="hint">
            It freezes what must match it: <b>{frozen.join(", ")}</b>.
          </p>
        )}
        <p className="hint">No plan takes these versions while the hold stands; approved plans are looked at again.</p>
      </Ask>
    </>
  );
}
