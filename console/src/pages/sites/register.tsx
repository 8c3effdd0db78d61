import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, asked, queries, told } from "../../api/client";
import { Ask } from "../../pieces/dialog";

const EMPTY = { label: "", address: "", client: "", host: "", twin_of: "" };
type Fields = typeof EMPTY;

/** Registering a site: what it is and where it answers; linking it comes next. */
export function RegisterSite() {
  const [fields, setFields] = useState<Fields | null>(null);
  const hosts = useQuery({ ...asked.hosts(), enabled: fields !== null });
  const today = useQuery(asked.today());
  const go = useNavigate();
  const register = useMutation({
    mutationFn: (said: Fields) =>
      told(
        api.POST("/api/v1/sites", {
          body: {
            label: said.label.trim(),
            address: said.address,
            client: said.client.trim(),
            host: said.host || null,
            twin_of: said.twin_of || null,
            environment: said.twin_of ? "staging" : "production",
            system: "millrace",
            tags: [],
            timezone: "Europe/London",
            windows: [{ days: ["mon", "tue", "wed", "thu", "fri", "sat", "sun"], start: "01:00", end: "05:00" }],
          },
        }),
      ),
    onSuccess: (site) => {
      void queries.invalidateQueries();
      go(`/sites/${site.id}?link`);
    },
  });
  const at = fields ?? EMPTY;
  const set = (change: Partial<Fields>) => setFields({ ...at, ...change });
  const twinless = (today.data?.sites ?? []).filter(
    (site) => !site.twin_of && !today.data?.sites.some((other) => other.twin_of === site.id),
  );
  return (
    <>
      <button className="btn self-center" onClick={() => setFields(EMPTY)}>
        Link a site…
      </button>
      <Ask
        open={fields !== null}
        title="Link a site"
        go="Register it"
        busy={register.isPending}
        ready={at.label.trim() !== "" && at.address.trim() !== ""}
        failed={register.error?.message ?? null}
        onGo={() => register.mutate(at)}
        onLeave={() => {
          register.reset();
          setFields(null);
        }}
      >
        <p className="pb-2">
          Nothing on the site changes. Its nights are 01:00 to 05:00, London time, until you set others; the
          line for its agent comes next.
        </p>
        <Field id="label" label="Name" value={at.label} onChange={(label) => set({ label })} />
        <Field
          id="address"
          label="Address"
          hint="As https://tarnsey-harbour.example"
          value={at.address}
          onChange={(address) => set({ address })}
        />
        <Field id="client" label="Client" value={at.client} onChange={(client) => set({ client })} />
        <div className="grid grid-cols-2 gap-3">
          <Choice
            id="host"
            label="Host"
            none="elsewhere"
            value={at.host}
            options={(hosts.data ?? []).map((host) => [host.id, host.name])}
            onChange={(host) => set({ host })}
          />
          <Choice
            id="twin"
            label="Twin of"
            none="a site of its own"
            value={at.twin_of}
            options={twinless.map((site) => [site.id, site.label])}
            onChange={(twin_of) => set({ twin_of })}
          />
        </div>
      </Ask>
    </>
  );
}

function Field({
  id,
  label,
  hint,
  value,
  onChange,
}: {
  id: string;
  label: string;
  hint?: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <div className="field pb-3">
      <label htmlFor={id}>{label}</label>
      <input id={id} className="in" value={value} onChange={(event) => onChange(event.target.value)} />
      {hint && <p className="hint">{hint}</p>}
    </div>
  );
}

function Choice({
  id,
  label,
  none,
  value,
  options,
  onChange,
}: {
  id: string;
  label: string;
  none: string;
  value: string;
  options: [string, string][];
  onChange: (value: string) => void;
}) {
  return (
    <div className="field">
      <label htmlFor={id}>{label}</label>
      <select id={id} className="in" value={value} onChange={(event) => onChange(event.target.value)}>
        <option value="">{none}</option>
        {options.map(([key, name]) => (
          <option key={key} value={key}>
            {name}
          </option>
        ))}
      </select>
    </div>
  );
}
