import type { TrialDocument } from "../../api/client";
import { Picture } from "../../ui/Picture";
import { figure, percent } from "../../ui/words";

export type Print = { key: string; document: TrialDocument; picture: string | null };

const TONE: Record<string, string> = {
  "clears it": "text-success",
  "clears it but breaks something else": "text-error",
  helps: "text-warning",
  "confirms identity": "second",
  "no effect": "second",
};

/** Trials as contact prints: picture, score bar, number, verdict. */
export function Trials(props: {
  prints: Print[];
  unit: string;
  chosen: number | null;
  choose: (i: number) => void;
}) {
  const top = Math.max(...props.prints.map((p) => Math.max(p.document.before, p.document.after)), 1e-12);
  return (
    <ol className="flex gap-[10px] overflow-x-auto pb-2" aria-label="Trials by rank">
      {props.prints.map((p, i) => (
        <li key={p.key} className="shrink-0 w-[150px]">
          <button
            type="button"
            aria-pressed={props.chosen === i}
            className={`w-full text-left bg-base-100 h-full flex flex-col border ${props.chosen === i ? "border-primary outline outline-1 outline-primary" : "border-base-300"}`}
            onClick={() => props.choose(i)}
          >
            {p.picture ? (
              <Picture className="w-full h-[64px] object-cover" src={p.picture} alt="" />
            ) : (
              <div className="stage h-[64px]" />
            )}
            <Words d={p.document} top={top} unit={props.unit} />
          </button>
        </li>
      ))}
    </ol>
  );
}

function Words({ d, top, unit }: { d: TrialDocument; top: number; unit: string }) {
  const verdict = d.verdict === "no effect" ? "no effect · ruled out" : d.verdict;
  return (
    <div className="px-[9px] py-[6px]">
      <b className="block leading-tight min-h-[30px] text-[12px] break-words">{d.title}</b>
      <div className="h-[5px] bg-base-300 my-[5px] relative" aria-hidden="true">
        <div
          className="absolute inset-y-0 left-0 bg-primary"
          style={{ width: `${(100 * d.after) / top}%` }}
        />
      </div>
      <div className="num second break-words">
        {figure(d.before)}→{figure(d.after)} {unit}
      </div>
      <div className={`text-[11px] font-semibold leading-tight ${TONE[d.verdict] ?? ""}`}>
        {verdict}
        {d.collateral_share > 0.001 && ` · ${percent(d.collateral_share, 1)} elsewhere`}
      </div>
    </div>
  );
}
