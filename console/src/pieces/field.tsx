/** A labelled field; `secret` ones are never shown and never kept by the browser. */
export function Field({
  label,
  value,
  onChange,
  type = "text",
  secret = false,
  hint,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  type?: "text" | "date";
  secret?: boolean;
  hint?: string;
}) {
  return (
    <label className="field block pb-2">
      <span className="lb">{label}</span>
      <input
        className={secret ? "in code" : "in"}
        type={secret ? "password" : type}
        autoComplete="off"
        spellCheck={false}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
      {hint && <span className="hint block">{hint}</span>}
    </label>
  );
}
