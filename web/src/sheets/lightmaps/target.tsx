import { useSearchParams } from "react-router";
import { Pick } from "../../ui/Pick";

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
    <Pick
      label="Target"
      value={of.value ?? ""}
      options={targets.map(({ target }) => ({ value: target ?? "", words: target ?? "project rules" }))}
      pick={(value) => of.choose(value || null)}
      className="w-32"
    />
  );
}
