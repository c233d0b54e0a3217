import { type Form, mayBe } from "./values";

type Props = { label: string; form: Form; text: string; set: (text: string) => void };

/** A field for one value, as its kind asks: a choice, yes or no, or text. */
export function Value({ label, form, text, set }: Props) {
  const choices = form.kind === "yes_no" ? ["yes", "no"] : form.kind === "choice" ? form.choices : null;
  const hint = mayBe(form);
  return (
    <span className="inline-flex gap-2 items-center">
      {choices ? (
        <select
          className="select select-sm w-36"
          aria-label={label}
          value={text}
          onChange={(e) => set(e.target.value)}
        >
          {[...choices, ...(form.optional ? ["none"] : [])].map((c) => (
            <option key={c}>{c}</option>
          ))}
        </select>
      ) : (
        <input
          className="input input-sm num w-36"
          aria-label={label}
          value={text}
          onChange={(e) => set(e.target.value)}
        />
      )}
      {hint && <span className="num second">{hint}</span>}
    </span>
  );
}
