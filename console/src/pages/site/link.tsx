import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, queries, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { clock } from "../../pieces/time";

/** Linking a site: the one line for its agent, and then the link itself. */
export function LinkSite({ id, label }: { id: string; label: string }) {
  const [params, setParams] = useSearchParams();
  const [copied, setCopied] = useState(false);
  const open = params.get("link") !== null;
  const path = { params: { path: { id } } };
  const line = useMutation({
    mutationFn: () => told(api.POST("/api/v1/sites/{id}/link-line", path)),
  });
  const link = useMutation({
    mutationFn: () => told(api.POST("/api/v1/sites/{id}/link", path)),
    onSuccess: () => {
      setParams({}, { replace: true });
      void queries.invalidateQueries();
    },
  });
  const begin = () => {
    link.reset();
    setCopied(false);
    setParams({ link: "" }, { replace: true });
  };
  const copy = async () => {
    await navigator.clipboard.writeText(line.data?.line ?? "");
    setCopied(true);
  };
  return (
    <>
      <button className="btn" onClick={begin}>
        Link it…
      </button>
      <Ask
        open={open}
        title={`Link ${label}`}
        go="It is pasted: link now"
        busy={link.isPending}
        ready={line.isSuccess}
        failed={link.error?.message ?? line.error?.message ?? null}
        onGo={() => link.mutate()}
        onLeave={() => setParams({}, { replace: true })}
      >
        <p>
          Paste one line into the agent’s own page on the site
          {line.data?.where && (
            <>
              , <span className="v">{line.data.where}</span>
            </>
          )}
          . It holds our public key and a code that is good once, for an hour; no password of the site is ever
          kept here.
        </p>
        {line.data ? (
          <div className="field pt-3">
            <label htmlFor="line">The line, good until {clock(line.data.good_until)}</label>
            <div className="flex gap-2">
              <input id="line" className="in code" readOnly value={line.data.line} />
              <button className="btn h-8" onClick={() => void copy()}>
                {copied ? "Copied" : "Copy"}
              </button>
            </div>
            <p className="hint">White space around it does no harm.</p>
          </div>
        ) : (
          <button className="btn mt-3" disabled={line.isPending} onClick={() => line.mutate()}>
            Make the line
          </button>
        )}
      </Ask>
    </>
  );
}
