import { useQuery } from "@tanstack/react-query";
import { asked, queries } from "../api/client";

interface Props {
  task: number;
  /** What is asked anew once it has ended: a query's first keys. */
  touches: readonly string[];
}

/** How far a task has come, until it has ended; then what it came to. */
export function Going({ task, touches }: Props) {
  const going = useQuery({
    ...asked.task(task),
    refetchInterval: (query) => {
      if (query.state.data && query.state.data.state !== "running") {
        void queries.invalidateQueries({ queryKey: touches });
        return false;
      }
      return 1000;
    },
  });
  if (!going.data) return null;
  const { state, phase, text, sites, ended } = going.data;
  const far = sites.length > 1 ? `${ended.length} of ${sites.length} so far` : phase || "It begins";
  return (
    <span className={`q text-[13px] ${state === "failed" ? "text-alarm" : ""}`} role="status">
      {state === "running" ? `${far}…` : text}
    </span>
  );
}
