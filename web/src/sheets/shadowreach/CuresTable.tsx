import { useKeep } from "../../api/writes";
import { Failed, Skeleton } from "../../ui/state";
import { bytes, figure, percent } from "../../ui/words";
import { type Cell, type Look, useCures } from "./queries";
import { TECHNIQUE } from "./words";

const REMEDIES = ["padding", "dense", "no size limit", "far tier", "reach"];
const TECHNIQUES = ["cascades", "paged", "rays"];
const SHAPE: Record<string, string> = { cures: "●", masks: "◐", "no effect": "○", "nothing to cure": "·" };
const TONE: Record<string, string> = { cures: "text-success font-bold", masks: "text-warning" };

type Props = {
  look: Look;
  caster: string;
  technique: string;
  wanted: boolean;
  ask: () => void;
};

/** Every technique against every remedy for one caster, each drawn from the same base. */
export function CuresTable({ look, caster, technique, wanted, ask }: Props) {
  const cures = useCures(look, caster, wanted);
  const keep = useKeep(look.project, look.build);
  const cells = cures.data?.cells ?? [];
  const keepCell = (c: Cell) =>
    keep.mutate({
      change: c.change,
      evidence: { measure: `share of the shadow of ${caster} drawn`, before: c.drawn_before, after: c.drawn },
      reason: "",
    });
  const of = (t: string, r: string) => cells.find((c) => c.technique === t && c.remedy === r);
  return (
    <section aria-label="What would cure it">
      <div className="flex items-baseline gap-3">
        <h2 className="mr-auto">What would cure it</h2>
        <span className="second">drawn, not guessed</span>
      </div>
      {!wanted && (
        <p className="mt-1">
          <button type="button" className="btn btn-sm" onClick={ask}>
            Try every remedy in every technique
          </button>
          <span className="second block mt-1">Fifteen builds are drawn from this one; nothing is kept.</span>
        </p>
      )}
      <Failed error={cures.error} />
      <Failed error={keep.error} />
      {wanted && cures.isPending && <Skeleton lines={4} />}
      {cures.data && (
        <table className="sheet-table" data-testid="cures">
          <thead>
            <tr>
              <th>Remedy</th>
              {TECHNIQUES.map((t) => (
                <th key={t}>
                  {TECHNIQUE[t]?.replace(/^(a|the) /, "")}
                  {t === technique && <span className="second font-normal"> here</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {REMEDIES.map((r) => (
              <tr key={r}>
                <td className="font-semibold">{r}</td>
                {TECHNIQUES.map((t) => (
                  <CellOf
                    key={t}
                    of={of(t, r)}
                    keep={t === technique ? keepCell : undefined}
                    busy={keep.isPending}
                  />
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

function CellOf({ of, keep, busy }: { of: Cell | undefined; keep?: (c: Cell) => void; busy: boolean }) {
  if (!of) return <td />;
  const { bytes: memory, draws } = of.cost;
  const costs = [
    memory ? `${memory > 0 ? "+" : "−"}${bytes(Math.abs(memory))}` : "",
    draws ? `${draws > 0 ? "+" : "−"}${Math.abs(draws)} draws` : "",
    of.elsewhere ? `${figure(of.elsewhere)} px elsewhere` : "",
  ].filter(Boolean);
  const critical = of.critical === null ? "" : `; just passes at ${figure(of.critical)} (a prediction)`;
  return (
    <td title={`${of.leaf} = ${String(of.value)}${critical}`}>
      <span className={TONE[of.verdict] ?? "second"}>
        <span aria-hidden="true">{SHAPE[of.verdict]}</span> {of.verdict}
      </span>
      {of.verdict !== "nothing to cure" && (
        <span className="num second block leading-tight">
          {percent(of.drawn_before, 0)} → {percent(of.drawn, 0)} drawn
        </span>
      )}
      {of.verdict === "cures" && (
        <span className="second block text-[11px] leading-tight">
          {of.leaf.split(".").at(-1)} {String(of.value)}
          {costs.length > 0 && `; ${costs.join(", ")}`}
        </span>
      )}
      {of.verdict === "cures" && keep && (
        <button type="button" className="btn btn-xs mt-1" disabled={busy} onClick={() => keep(of)}>
          Keep
        </button>
      )}
    </td>
  );
}
