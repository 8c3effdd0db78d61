import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, queries, type Schemas, told } from "../api/client";
import { Ask } from "../pieces/dialog";
import { Field } from "../pieces/field";
import { plural } from "../pieces/words";

type View = Schemas["ProductView"];

/** What a person decides of a product: which package is right, a hold, what is not taken. */
export function Decide({ view }: { view: View }) {
  const undecided = view.releases.find((one) => one.republished && !one.republished.decided);
  const { name } = view.row.product;
  return (
    <aside className="side dec">
      {undecided && <Twice product={view.row.product.id} release={undecided} />}
      <section>
        <h2>Hold</h2>
        <p className="q py-2 text-[13px]">
          Nobody takes it until you lift it or the hold ends. Where it is tied to others they stay as well, and
          are named.
        </p>
        <Hold id={view.row.product.id} name={name} newest={view.row.newest} />
        {view.row.decided.startsWith("held") && (
          <p className="pt-2 text-[13px]">
            Now: {view.row.decided}. Lift it at a terminal:{" "}
            <span className="v">windbreak product holds</span>
          </p>
        )}
      </section>
      {view.lags.some((lag) => lag.days !== null) && (
        <section>
          <h2>Own or carried</h2>
          {view.lags.map((lag) => (
            <p key={lag.theme} className="q pt-2 text-[13px]">
              Carried by {lag.theme.split("/")[1]}, it comes{" "}
              <b className="text-ink">{plural(lag.days ?? 0, "day")}</b> later, going by{" "}
              {plural(lag.releases, "release")}. An own licence costs money and no wait.
            </p>
          ))}
        </section>
      )}
    </aside>
  );
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

function Hold({ id, name, newest }: { id: string; name: string; newest: string | null }) {
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
  return (
    <>
      <button className="btn" onClick={() => setOpen(true)}>
        Hold…
      </button>
      <Ask
        open={open}
        title={`Hold ${name}`}
        go="Hold it everywhere"
        busy={hold.isPending}
        ready={reason.trim() !== ""}
        failed={hold.isError ? hold.error.message : null}
        onGo={() => hold.mutate()}
        onLeave={() => setOpen(false)}
      >
        <Field label="Versions" value={range} onChange={setRange} hint="A range, as >=1.9 or *" />
        <Field label="Until" type="date" value={until} onChange={setUntil} hint="Empty: until you lift it." />
        <Field label="Why" value={reason} onChange={setReason} />
        <p className="hint">No plan takes these versions while the hold stands; approved plans are looked at again.</p>
      </Ask>
    </>
  );
}
