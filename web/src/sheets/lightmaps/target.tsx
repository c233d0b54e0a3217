import { useSearchParams } from "react-router";

export type TargetChoice = { value: string | null; choose: (t: string | null) => void };

/** The target whose rules hold (encoding, which charts share a map, UV use), in the address. */
export function useTarget(): TargetChoice {
  const [query, setQuery] = useSearchParams();
  return {
    value: query.get("target"),
    choose: (t) => {
      const next = new URLSearchParams(query);
      if (t === null) next.delete("target");
      else next.set("target", t);
      setQuery(next, { replace: true });
    },
  };
}

export function TargetPick({ of, targets }: { of: TargetChoice; targets: { target: string | null }[] }) {
  if (targets.length < 2) return null;
  return (
    <select
      className="select select-sm w-32"
      aria-label="Target"
      value={of.value ?? ""}
      onChange={(e) => of.choose(e.target.value || null)}
    >
      {targets.map(({ target }) => (
        <option key={String(target)} value={target ?? ""}>
          {target ?? "project rules"}
        </option>
      ))}
    </select>
  );
}
