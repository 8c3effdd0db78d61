import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Going } from "../../pieces/going";

/** Of a twin: made as its site is. Of a site: its backup proved on the twin. Both are tasks. */
export function TwinActs({ view }: { view: Schemas["SiteView"] }) {
  const site = view.summary;
  const [asking, setAsking] = useState(false);
  const [task, setTask] = useState<number | null>(null);
  const path = { params: { path: { id: site.id } } };
  const begin = useMutation({
    mutationFn: () =>
      site.twin_of
        ? told(api.POST("/api/v1/sites/{id}/twin-refresh", path))
        : told(api.POST("/api/v1/sites/{id}/proof", path)),
    onSuccess: (begun) => {
      setAsking(false);
      setTask(begun.id);
    },
  });
  const label = site.twin_of ? "Refresh from its site" : "Prove its backup";
  return (
    <>
      {task !== null && <Going task={task} touches={["site", site.id]} />}
      <button className="btn" onClick={() => setAsking(true)}>
        {label}…
      </button>
      <Ask
        open={asking}
        title={label}
        go={label}
        busy={begin.isPending}
        failed={begin.error?.message ?? null}
        onGo={() => begin.mutate()}
        onLeave={() => setAsking(false)}
      >
        {site.twin_of ? (
          <p>
            A snapshot of its site is restored here, with the addresses rewritten. What is on the twin
            now is gone then; its link and its seats stay its own.
          </p>
        ) : (
          <p>
            A snapshot of this site is restored on its twin and looked at; then the twin is made as it
            was. Nothing changes here. It takes some minutes, and no run begins on either meanwhile.
          </p>
        )}
      </Ask>
    </>
  );
}
