import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, queries, type Schemas, told } from "../../api/client";
import { day } from "../../pieces/time";

type View = Schemas["SiteView"];
type Audience = Schemas["Note"]["audience"];

const TITLES: [Audience, string, string][] = [
  ["us", "For us", "staff only"],
  ["client", "For the client", "may be told them"],
];

/** What people should know of a site: for staff, and for its client. */
export function Notes({ view }: { view: View }) {
  return (
    <div className="grid gap-9 pt-2 md:grid-cols-2">
      {TITLES.map(([audience, title, hint]) => (
        <NoteBox key={audience} view={view} audience={audience} title={title} hint={hint} />
      ))}
    </div>
  );
}

function NoteBox({ view, audience, title, hint }: { view: View; audience: Audience; title: string; hint: string }) {
  const note = view.notes.find((one) => one.audience === audience);
  const [draft, setDraft] = useState<string | null>(null);
  const site = view.summary.id;
  const write = useMutation({
    mutationFn: (text: string) =>
      told(api.PUT("/api/v1/sites/{id}/notes/{audience}", { params: { path: { id: site, audience } }, body: { text } })),
    onSuccess: () => {
      setDraft(null);
      void queries.invalidateQueries({ queryKey: ["site", site] });
    },
  });
  const text = draft ?? note?.text ?? "";
  return (
    <section aria-label={title}>
      <h2>
        {title}{" "}
        <span className="q text-[12px] font-normal">
          {hint}
          {note && ` · ${note.by}, ${day(note.at)}`}
        </span>
      </h2>
      <textarea
        className="in mt-1 w-full"
        rows={2}
        aria-label={`Note ${title.toLowerCase()}`}
        value={text}
        maxLength={2000}
        onChange={(event) => setDraft(event.target.value)}
      />
      {draft !== null && draft !== (note?.text ?? "") && (
        <p>
          <button className="btn" disabled={write.isPending} onClick={() => write.mutate(draft)}>
            {draft.trim() ? "Keep it" : "Take it away"}
          </button>
          {write.isError && <span className="text-alarm"> {write.error.message}</span>}
        </p>
      )}
    </section>
  );
}
