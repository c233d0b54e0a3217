import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Case, client, must } from "../../api/client";
import type { Spot } from "./Stage";

/** Symptom and spot by keyboard. */
export function SpotFields({
  of,
  set,
}: {
  of: Case;
  set: (values: { symptom?: string; spot?: Spot; subject?: string | null }) => void;
}) {
  const symptoms = useQuery({
    queryKey: ["symptoms"],
    queryFn: () => must(client.GET("/api/symptoms")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const [text, setText] = useState((of.spot ?? []).join(", "));
  useEffect(() => setText((of.spot ?? []).join(", ")), [of.spot]);
  const numbers = text.split(",").map((v) => Number.parseInt(v, 10));
  const fits = numbers.length === 4 && numbers.every((v) => Number.isInteger(v) && v >= 0);
  return (
    <form
      className="flex gap-2 items-end flex-wrap"
      onSubmit={(e) => {
        e.preventDefault();
        if (fits) set({ spot: numbers as Spot });
      }}
    >
      <label className="flex flex-col">
        <span className="second">Symptom</span>
        <select
          className="select select-xs w-36"
          value={of.symptom}
          onChange={(e) => set({ symptom: e.target.value })}
        >
          {(symptoms.data ?? [{ name: of.symptom, means: "" }]).map((s) => (
            <option key={s.name} title={s.means}>
              {s.name}
            </option>
          ))}
        </select>
      </label>
      <label className="flex flex-col">
        <span className="second">Spot x, y, width, height</span>
        <input className="input input-xs num w-40" value={text} onChange={(e) => setText(e.target.value)} />
      </label>
      <button type="submit" className="btn btn-xs" disabled={!fits || text === (of.spot ?? []).join(", ")}>
        Set spot
      </button>
    </form>
  );
}
