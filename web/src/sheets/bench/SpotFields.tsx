import { useEffect, useState } from "react";
import type { Case } from "../../api/client";
import { useSymptoms } from "./queries";
import type { Spot } from "./Stage";

type Values = { symptom?: string; spot?: Spot; subject?: string | null };

/** Symptom, spot and subject by keyboard. */
export function SpotFields({ of, set }: { of: Case; set: (values: Values) => void }) {
  const symptoms = useSymptoms();
  const spotText = (of.spot ?? []).join(", ");
  const [spot, setSpot] = useState(spotText);
  const [subject, setSubject] = useState(of.subject ?? "");
  useEffect(() => setSpot(spotText), [spotText]);
  useEffect(() => setSubject(of.subject ?? ""), [of.subject]);
  const numbers = spot.split(",").map((v) => Number.parseInt(v, 10));
  const fits = numbers.length === 4 && numbers.every((v) => Number.isInteger(v) && v >= 0);
  const changed = (fits && spot !== spotText) || subject !== (of.subject ?? "");
  const submit = () => {
    const values: Values = {};
    if (fits && spot !== spotText) values.spot = numbers as Spot;
    if (subject !== (of.subject ?? "")) values.subject = subject || null;
    if (changed) set(values);
  };
  return (
    <form
      className="flex gap-2 items-end flex-wrap"
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      <label className="flex flex-col">
        <span className="second">Symptom</span>
        <select
          className="select select-xs w-[196px]"
          value={of.symptom}
          onChange={(e) => set({ symptom: e.target.value })}
        >
          {(symptoms.data ?? [{ name: of.symptom, means: "", scored: "yes" }])
            .filter((s) => s.scored === "yes" || s.name === of.symptom)
            .map((s) => (
              <option key={s.name} title={s.means}>
                {s.name}
              </option>
            ))}
        </select>
      </label>
      <label className="flex flex-col">
        <span className="second">Spot x, y, width, height</span>
        <input
          className="input input-xs num w-[148px]"
          value={spot}
          onChange={(e) => setSpot(e.target.value)}
        />
      </label>
      <label className="flex flex-col">
        <span className="second">Subject</span>
        <input
          className="input input-xs num w-[104px]"
          placeholder={(of.lineup?.subject as string) ?? "in front"}
          value={subject}
          onChange={(e) => setSubject(e.target.value)}
        />
      </label>
      {changed && (
        <button type="submit" className="btn btn-xs">
          Set
        </button>
      )}
    </form>
  );
}
