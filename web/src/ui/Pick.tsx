import { useId } from "react";

export type Option = { value: string; words?: string; title?: string };

type Props = {
  label: string;
  value: string;
  options: (string | Option)[];
  pick: (value: string) => void;
  /** Whether the label stands above it, or only a reader of the screen hears it. */
  above?: boolean;
  className?: string;
};

/** A choice of one among several. */
export function Pick({ label, value, options, pick, above = false, className = "w-40" }: Props) {
  const id = useId();
  const select = (
    <select
      id={id}
      className={`select select-sm ${className}`}
      aria-label={above ? undefined : label}
      value={value}
      onChange={(e) => pick(e.target.value)}
    >
      {options.map((o) => {
        const { value: key, words = key, title } = typeof o === "string" ? { value: o } : o;
        return (
          <option key={key} value={key} title={title}>
            {words || "none"}
          </option>
        );
      })}
    </select>
  );
  if (!above) return select;
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id}>{label}</label>
      {select}
    </div>
  );
}
