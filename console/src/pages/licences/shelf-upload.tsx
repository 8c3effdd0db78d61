import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { asked, Problem, queries, type Schemas } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Word } from "../../pieces/word";

type Package = Schemas["Package"];

/** Send an archive as it is; the service examines it before it keeps anything. */
async function put(file: File, site: string): Promise<Package> {
  const query = site ? `?site=${encodeURIComponent(site)}` : "";
  const answer = await fetch(`/api/v1/shelf${query}`, {
    method: "POST",
    body: file,
    headers: { "content-type": "application/zip" },
  });
  const said = (await answer.json()) as Package & { code?: string; detail?: string };
  if (!answer.ok) throw new Problem(answer.status, said.code ?? "unknown", said.detail ?? "");
  return said;
}

/** "Put a package on the shelf…": by dropping it, or by choosing it. */
export function Upload({ site = "", go = false }: { site?: string; go?: boolean }) {
  const [open, setOpen] = useState(false);
  const [file, setFile] = useState<File | null>(null);
  const [over, setOver] = useState(false);
  const [to, setTo] = useState(site);
  const choose = useRef<HTMLInputElement>(null);
  const today = useQuery({ ...asked.today(), enabled: open });
  const sites = today.data?.sites ?? [];
  const label = (id: string) => sites.find((s) => s.id === id)?.label ?? id;
  const send = useMutation({
    mutationFn: () => put(file as File, to),
    onSuccess: () => void queries.invalidateQueries(),
  });
  const leave = () => {
    setOpen(false);
    setFile(null);
    send.reset();
  };
  const take = (found: File | undefined) => {
    if (found) setFile(found);
    send.reset();
  };
  const kept = send.data;
  return (
    <>
      <button className={go ? "btn go" : "btn"} onClick={() => setOpen(true)}>
        Put a package on the shelf…
      </button>
      <Ask
        open={open}
        title="Put a package on the shelf"
        go={kept ? "Done" : "Examine and keep it"}
        busy={send.isPending}
        ready={file !== null}
        failed={send.isError ? send.error.message : null}
        onGo={() => (kept ? leave() : send.mutate())}
        onLeave={leave}
      >
        <div
          className={over ? "drop over-it" : "drop"}
          onDragOver={(event) => {
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={(event) => {
            event.preventDefault();
            setOver(false);
            take(event.dataTransfer.files[0]);
          }}
        >
          <p>
            {file ? (
              <>
                <b>{file.name}</b> <span className="v">{file.size.toLocaleString("en")}</span> bytes
              </>
            ) : (
              "Drop the archive here."
            )}
          </p>
          <button className="btn" onClick={() => choose.current?.click()}>
            {file ? "Choose another" : "Choose a file"}
          </button>
          <input
            ref={choose}
            type="file"
            accept=".zip,application/zip"
            className="sr-only"
            aria-label="Archive"
            onChange={(event) => take(event.target.files?.[0])}
          />
        </div>
        <p className="words pt-2">
          <span>for</span>
          <Word
            any="no site by itself"
            value={to}
            options={sites.map((s) => s.id)}
            onChange={setTo}
          />
        </p>
        <p className="hint">
          It is examined first: its kind, name and version, paths, links, sizes. Of a complete download the
          installable archive inside is taken. Being on the shelf gives no site a right to it.
        </p>
        {kept && (
          <p className="pt-2" role="status">
            <b>{kept.name}</b> <span className="v">{kept.version}</span> is on the shelf
            {to && <>, and {label(to)} may have it</>}.
            {kept.inner && <> It lay inside the complete download, as {kept.inner}.</>}
          </p>
        )}
      </Ask>
    </>
  );
}
