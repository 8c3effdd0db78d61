import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";
import { Field } from "../../pieces/field";
import { plural } from "../../pieces/time";
import { Word } from "../../pieces/word";

type View = Schemas["LicenceView"];

const path = (id: string) => ({ params: { path: { id } } });

export function GiveSeat({ view }: { view: View }) {
  const [open, setOpen] = useState(false);
  const [site, setSite] = useState("");
  const [code, setCode] = useState("");
  const today = useQuery({ ...asked.today(), enabled: open });
  const taken = new Set(view.seats.map((s) => s.seat.site));
  const free = (today.data?.sites ?? []).filter((s) => !taken.has(s.id));
  const perSite = view.licence.form === "per-site code";
  const leave = () => {
    setOpen(false);
    setCode("");
    give.reset();
  };
  const give = useMutation({
    mutationFn: () =>
      told(
        api.POST("/api/v1/licences/{id}/seats", {
          ...path(view.licence.id),
          body: { site, code: code || null },
        }),
      ),
    onSuccess: () => {
      leave();
      void queries.invalidateQueries();
    },
  });
  return (
    <>
      <button className="t tap text-[12px] underline" onClick={() => setOpen(true)}>
        Give a seat…
      </button>
      <Ask
        open={open}
        title={`A seat of ${view.licence.label}`}
        go="Give it the seat"
        busy={give.isPending}
        ready={site !== ""}
        failed={give.isError ? give.error.message : null}
        onGo={() => give.mutate()}
        onLeave={leave}
      >
        <p className="words pb-2">
          <span>to</span>
          <Word
            any="which site?"
            value={site}
            options={[...view.without, ...free.map((s) => s.id).filter((id) => !view.without.includes(id))]}
            onChange={setSite}
          />
        </p>
        {perSite && (
          <Field
            label="Its code"
            value={code}
            onChange={setCode}
            secret
            hint="White space around it does no harm. It is sealed, and shown ever after by its last four signs."
          />
        )}
        <p className="hint">
          {view.free === null ? "Seats are without limit." : `${plural(view.free, "seat")} free.`} A copy rides
          along with its site’s seat{view.licence.riding ? "" : ", but not here"}.
        </p>
      </Ask>
    </>
  );
}

export function EnterCode({ view }: { view: View }) {
  const [open, setOpen] = useState(false);
  const enter = useMutation({
    mutationFn: () => told(api.POST("/api/v1/licences/{id}/entries", path(view.licence.id))),
    onSettled: () => void queries.invalidateQueries(),
  });
  const leave = () => {
    setOpen(false);
    enter.reset();
  };
  const done = enter.data;
  return (
    <>
      <button className="t tap text-[12px] underline" onClick={() => setOpen(true)}>
        Enter the code…
      </button>
      <Ask
        open={open}
        title={`Enter the code of ${view.licence.label}`}
        go={done ? "Done" : `Enter it on ${plural(view.seats.length, "site")}`}
        busy={enter.isPending}
        failed={enter.isError ? enter.error.message : null}
        onGo={() => (done ? leave() : enter.mutate())}
        onLeave={leave}
      >
        {done ? (
          <ul role="status">
            {done.map((one) => (
              <li key={one.site}>{one.text}</li>
            ))}
          </ul>
        ) : (
          <>
            <p>
              The agent of each site enters the code there; then the registration is read back. Nothing else on
              the sites changes.
            </p>
            <ul className="pt-2">
              {view.seats.map((one) => (
                <li key={one.seat.site}>{one.text}</li>
              ))}
            </ul>
          </>
        )}
      </Ask>
    </>
  );
}
