import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { Load } from "../../pieces/load";
import { plural, span } from "../../pieces/time";
import { Age } from "../../pieces/words";
import { Glyph } from "../../states/states";

type Feed = Schemas["Feed"];

const all = () => void queries.invalidateQueries();
const path = (id: string) => ({ params: { path: { id } } });

export function Feeds() {
  const feeds = useQuery(asked.feeds());
  const check = useMutation({
    mutationFn: () => told(api.POST("/api/v1/feeds/poll")),
    onSettled: all,
  });
  const people = useQuery(asked.accounts());
  const list = feeds.data ?? [];
  const fresh = list.filter((feed) => feed.state === "fresh").length;
  return (
    <section aria-label="Feeds">
      <div className="hd">
        <h2 className="!text-[18px] !font-semibold">Feeds</h2>
        <span className="q text-[13px]">
          {fresh} of {list.length} fresh
        </span>
        <button className="btn h-[26px]" disabled={check.isPending} onClick={() => check.mutate()}>
          {check.isPending ? "Asking…" : "Check all now"}
        </button>
      </div>
      <div className="cap capf">
        <span>feed</span>
        <span>state, next</span>
        <span>account, permissions, products</span>
      </div>
      {check.isError && (
        <p className="state-note bad" role="alert">
          {check.error.message}
        </p>
      )}
      <Load query={feeds} rows={6}>
        {(found) =>
          found.length ? (
            <ul>
              {found.map((feed) => (
                <Row key={feed.id} feed={feed} by={people.data?.find((one) => one.id === feed.set_up_by)} />
              ))}
            </ul>
          ) : (
            <p className="q py-3">
              No feed is registered. At a terminal: <span className="v">windbreak feed add ID LABEL ADDRESS</span>
            </p>
          )
        }
      </Load>
    </section>
  );
}

const SHORT = { "release-feed": "release feed", atom: "Atom", recipe: "recipe", advisories: "OSV" };

const SEEN = { valid: "seen valid", refused: "seen refused", "not yet": "not seen yet" };

function Row({ feed, by }: { feed: Feed; by: Schemas["Account"] | undefined }) {
  const lacks = feed.check?.sure ? feed.check.lacks : [];
  const bad = feed.state !== "fresh" || lacks.length > 0 || feed.check?.valid === false;
  const word = feed.state === "fresh" && lacks.length ? "in part" : feed.state;
  const secret = feed.credential ? `, ${feed.sign_in} ${feed.credential}` : "";
  return (
    <li className="f">
      <div className="t">
        <Glyph state={bad ? "blocked" : "clear"} />
        <b>{feed.label}</b>
        <span className="qq">
          {SHORT[feed.kind]}
          {secret}
        </span>
      </div>
      <div>
        {word}, <Age at={feed.fresh_at} />
        <span className="qq block">{feed.next_poll_at ? `next in ${span(feed.next_poll_at)}` : "next soon"}</span>
      </div>
      <div className="min-w-0">
        {feed.state !== "fresh" && <p className="is-blocked">{feed.reason}</p>}
        {by?.closed_at ? (
          <p className="is-blocked">set up by {by.name}, whose account is closed</p>
        ) : (
          <p>
            {feed.check?.account ?? (feed.credential ? "account not told" : "public, none asked")}
            {by && `, by ${by.name}`}
            {feed.credential && (
              <span className="qq" title={feed.check?.text}>
                , {SEEN[feed.check?.seen ?? "not yet"]}
              </span>
            )}
          </p>
        )}
        {feed.check && (
          <dl className="pms">
            <Permissions word="has" list={feed.check.has.filter((p) => !feed.check?.excess.includes(p))} />
            <Permissions word="lacks" list={feed.check.lacks} tone="lack" />
            <Permissions word="too much" list={feed.check.excess} tone="ex" />
          </dl>
        )}
        {feed.check && !feed.check.sure && (
          <p className="qq">New, and perhaps only the maker’s delay: it is looked at again.</p>
        )}
        {feed.disagreements.map((one) => (
          <p key={one.product} className="qq">
            {one.text}
          </p>
        ))}
        {feed.faults.length > 0 && (
          <p className="qq" title={feed.faults.join("\n")}>
            {plural(feed.faults.length, "item")} not taken as told: {feed.faults[0]}
          </p>
        )}
        <p className="qq">
          {feed.products.length > 6
            ? `${feed.products.length} products`
            : feed.products.map((id, n) => (
                <span key={id}>
                  {n > 0 && ", "}
                  <Link className="tap hover:underline" to={`/products/${id}`}>
                    {id.split("/")[1]}
                  </Link>
                </span>
              ))}
        </p>
        <p className="flex gap-3">
          <Poll feed={feed} />
          {feed.credential && <Replace feed={feed} />}
        </p>
      </div>
    </li>
  );
}

function Permissions({ word, list, tone = "" }: { word: string; list: string[]; tone?: string }) {
  if (list.length === 0) return null;
  return (
    <>
      <dt className={tone}>{word}</dt>
      <dd>
        <span className={`pm ${tone}`}>{list.join(", ")}</span>
      </dd>
    </>
  );
}

function Poll({ feed }: { feed: Feed }) {
  const poll = useMutation({
    mutationFn: () => told(api.POST("/api/v1/feeds/{id}/poll", path(feed.id))),
    onSettled: all,
  });
  return (
    <>
      <button className="t tap text-[12px] underline" disabled={poll.isPending} onClick={() => poll.mutate()}>
        {poll.isPending ? "Asking…" : "Look now"}
      </button>
      {poll.data && (
        <span className="qq" role="status">
          {poll.data.text}
        </span>
      )}
    </>
  );
}

function Replace({ feed }: { feed: Feed }) {
  const [open, setOpen] = useState(false);
  const [secret, setSecret] = useState("");
  const leave = () => {
    setOpen(false);
    setSecret("");
    replace.reset();
  };
  const replace = useMutation({
    mutationFn: async () => {
      await told(api.PUT("/api/v1/feeds/{id}/credential", { ...path(feed.id), body: { credential: secret } }));
      return told(api.POST("/api/v1/feeds/{id}/check", path(feed.id)));
    },
    onSettled: all,
  });
  const done = replace.data;
  return (
    <>
      <button className="t tap text-[12px] underline" onClick={() => setOpen(true)}>
        Replace…
      </button>
      <Ask
        open={open}
        title={`Replace the credential of ${feed.label}`}
        go={done ? "Done" : "Seal and check it"}
        busy={replace.isPending}
        ready={Boolean(done) || secret.trim() !== ""}
        failed={replace.isError ? replace.error.message : null}
        onGo={() => (done ? leave() : replace.mutate())}
        onLeave={leave}
      >
        {done ? (
          <p role="status">{done.text}</p>
        ) : (
          <Field
            label={`New credential (${feed.sign_in})`}
            value={secret}
            onChange={setSecret}
            secret
            hint="White space around it does no harm. It takes the place of the old one at once, and goes to this feed’s own origins only."
          />
        )}
      </Ask>
    </>
  );
}
