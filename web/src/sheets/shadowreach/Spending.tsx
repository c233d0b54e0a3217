import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import { figure } from "../../ui/words";
import { type BudgetOf, type Look, useBudget } from "./queries";
import { TECHNIQUE } from "./words";

const UNITS: Record<string, string> = {
  shadow_mib: "MiB",
  shadow_draws: "draws",
  shadow_triangles: "triangles",
  shadow_rays: "rays",
};
const three = (v: number) => figure(Number(v.toPrecision(3)));

/** What each light's shadows take of a frame, what they are due on, and the target's limits. */
export function Spending({ look }: { look: Look }) {
  const [wanted, setWanted] = useState(false);
  const found = useBudget(look, wanted);
  const budget = found.data;
  return (
    <section aria-label="Spending" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>What does it take?</h2>
        {budget && <Limits budget={budget} target={look.target} />}
      </div>
      {!wanted && (
        <p className="mt-1 flex gap-2 items-center">
          <button type="button" className="btn btn-sm" onClick={() => setWanted(true)}>
            Count every light
          </button>
          <span className="second">
            Memory, draws, triangles and rays; the pixels on which a shadow is due.
          </span>
        </p>
      )}
      <Failed error={found.error} />
      {wanted && found.isPending && <Skeleton lines={3} />}
      {budget && <Lights budget={budget} />}
    </section>
  );
}

function Limits({ budget, target }: { budget: BudgetOf; target: string | null }) {
  if (!budget.limits.length) return <span className="second">{target ?? "no target"} sets no limit</span>;
  return (
    <span className="second">
      {budget.limits.map((l) => (
        <span key={l.leaf} className={l.spent > l.limit ? "text-error" : ""}>
          {three(l.spent)} of {three(l.limit)} {UNITS[l.leaf] ?? l.leaf}
          {l.spent > l.limit && ": over budget"}{" "}
        </span>
      ))}
    </span>
  );
}

function Lights({ budget }: { budget: BudgetOf }) {
  const all = { light: "all", technique: "", spent: budget.total, due_px: null, drawn_px: null };
  return (
    <table className="sheet-table max-w-4xl mt-1" data-testid="spending">
      <thead>
        <tr>
          <th>Light</th>
          <th>By</th>
          <th className="text-right!">Memory</th>
          <th className="text-right!">Maps</th>
          <th className="text-right!">Draws</th>
          <th className="text-right!">Triangles</th>
          <th className="text-right!">Rays</th>
          <th className="text-right!">Pixels due</th>
          <th className="text-right!">Drawn</th>
        </tr>
      </thead>
      <tbody>
        {[...budget.lights, all].map((v) => (
          <tr key={v.light} className={v === all ? "font-semibold" : ""}>
            <td>{v.light}</td>
            <td>{TECHNIQUE[v.technique] ?? v.technique}</td>
            <td className="num text-right">{three(v.spent.mib)} MiB</td>
            <td className="num text-right">{figure(v.spent.maps)}</td>
            <td className="num text-right">{figure(v.spent.draws)}</td>
            <td className="num text-right">{figure(v.spent.triangles)}</td>
            <td className="num text-right">{figure(v.spent.rays)}</td>
            <td className={`num text-right ${v.due_px === 0 ? "text-error" : ""}`}>
              {v.due_px === null ? "" : figure(v.due_px)}
            </td>
            <td className="num text-right">{v.drawn_px === null ? "" : figure(v.drawn_px)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
