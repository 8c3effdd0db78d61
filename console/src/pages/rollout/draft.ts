import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, asked, Problem, told } from "../../api/client";
import type { Draft, New } from "./state";

/** What changed between two looks at a draft: a line each, and the id of the draft as it is now. */
export interface Changed {
  lines: string[];
  draft: string;
}

/** A refusal as what changed since a draft was shown; null where it is another one. */
export function changedSince(error: unknown): Changed | null {
  if (!(error instanceof Problem) || error.code !== "draft-changed") return null;
  const { changes, draft } = error.details as { changes?: string[]; draft?: string };
  return draft ? { lines: changes ?? [], draft } : null;
}

/**
 * The draft of what is wanted: answered at once, and shown again when its times are final. `renew`
 * drafts it again; `showNow` goes on with the draft that a refusal named.
 */
export function useDraft(wanted: New) {
  const [round, setRound] = useState(0);
  const [changed, setChanged] = useState<Changed | null>(null);
  const first = useQuery({
    queryKey: ["rollout draft", wanted, round],
    queryFn: () => told(api.POST("/api/v1/rollouts/drafts", { body: wanted })),
    staleTime: Infinity, // asking again would make another draft
    refetchOnWindowFocus: false,
    retry: false,
    placeholderData: (before) => before,
  });
  const id = changed?.draft ?? first.data?.id;
  const now = useQuery({ ...asked.draft(id ?? ""), enabled: id !== undefined, retry: false });
  const draft: Draft | undefined = now.data ?? (changed ? undefined : first.data);
  return {
    draft,
    error: draft ? null : (first.error ?? now.error),
    changes: changed?.lines ?? [],
    renew: () => {
      setChanged(null);
      setRound(round + 1);
    },
    showNow: setChanged,
  };
}
