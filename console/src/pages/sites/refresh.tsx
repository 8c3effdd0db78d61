import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type SiteSummary, told } from "../../api/client";
import { Going } from "../../pieces/going";
import { plural } from "../../pieces/time";

interface Props {
  sites: readonly SiteSummary[];
  narrowed: boolean;
}

/** Ask every site that is shown what is installed on it: a task, whose progress stands beside. */
export function RefreshSites({ sites, narrowed }: Props) {
  const [task, setTask] = useState<number | null>(null);
  const begin = useMutation({
    mutationFn: () =>
      told(
        api.POST("/api/v1/sites/refresh", {
          body: { sites: narrowed ? sites.map((site) => site.id) : [] },
        }),
      ),
    onSuccess: (begun) => setTask(begun.id),
  });
  return (
    <>
      {begin.isError && (
        <span className="q text-[13px] text-alarm" role="alert">
          {begin.error.message}
        </span>
      )}
      {task !== null && <Going task={task} touches={["today"]} />}
      <button
        className="btn"
        disabled={begin.isPending || sites.length === 0}
        onClick={() => begin.mutate()}
      >
        {narrowed ? `Ask ${plural(sites.length, "site")} anew` : "Ask all anew"}
      </button>
    </>
  );
}
