import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import type { Look } from "../look";
import {
  type EdgesOf,
  type OverdrawOf,
  type ShadowsOf,
  useEdges,
  useOverdraw,
  useShadowThrough,
} from "./queries";

const HELD: Record<string, string> = {
  straight: "straight",
  premultiplied: "multiplied by alpha",
  premultiplied_codes: "multiplied as codes",
};

/** Edges, costs and shadows of what has alpha, once they are asked for at a viewpoint, or a finding of them is looked at. */
export function useMeasured(look: Look, atOnce: boolean) {
  const of = `${look.stamp} ${look.viewpoint} ${look.target}`;
  const [wanted, setWanted] = useState("");
  const asked = atOnce || wanted === of;
  const edges = useEdges(look, asked);
  const overdraw = useOverdraw(look, asked);
  const shadows = useShadowThrough(look, asked);
  return { asked, ask: () => setWanted(of), edges, overdraw, shadows };
}

export type Measured = ReturnType<typeof useMeasured>;

/** Whether a picture with alpha is drawn otherwise than it ought to be, so that the frame put right is worth a look. */
export const rimmed = (of: EdgesOf | undefined) =>
  of?.materials.find((m) => m.misread_px > 0 || m.averaged_px > 0);

/** Edges of what has alpha, what blended layers cost, and shadows that are not thrown; asked for on demand. */
export function Edges({ of }: { of: Measured }) {
  const { asked, edges, overdraw, shadows } = of;
  const waits = asked && [edges, overdraw, shadows].some((q) => q.isPending && !q.error);
  return (
    <section aria-label="Edges and costs" className="mt-4">
      <h2>Edges, coverage, cost, shadows</h2>
      {!asked && (
        <button type="button" className="btn btn-sm mt-1" onClick={of.ask}>
          Measure what has alpha
        </button>
      )}
      <Failed error={edges.error ?? overdraw.error ?? shadows.error} />
      {waits && <Skeleton lines={5} />}
      {asked && edges.data && <EdgeTable of={edges.data} />}
      {asked && overdraw.data && <Cost of={overdraw.data} />}
      {asked && shadows.data && <Shadows of={shadows.data} />}
    </section>
  );
}

function EdgeTable({ of }: { of: EdgesOf }) {
  if (of.materials.length === 0) return <p className="second">Nothing with an alpha picture is in view.</p>;
  return (
    <table className="sheet-table mt-1" data-testid="edges">
      <thead>
        <tr>
          <th>Material</th>
          <th>Colours are</th>
          <th>drawn as</th>
          <th className="text-right!">Misread</th>
          <th className="text-right!">Rim</th>
          <th className="text-right!">Drawn of what is there</th>
        </tr>
      </thead>
      <tbody>
        {of.materials.map((m) => {
          const misread = m.holds !== null && m.holds !== m.read_as;
          const thin = m.due_px !== null && Math.abs((m.drawn_px ?? 0) - m.due_px) > 0.1 * m.due_px;
          return (
            <tr key={m.material}>
              <td className={m.beyond ? "text-error font-semibold" : ""}>{m.material}</td>
              <td>{m.read_as === null ? "–" : m.holds === null ? "not to be told" : HELD[m.holds]}</td>
              <td className={misread ? "text-error" : ""}>
                {m.read_as === null ? "–" : HELD[m.read_as]}
                {m.filtered === "premultiplied" && <span className="second"> · averaged multiplied</span>}
              </td>
              <td className="num text-right">{figure(m.misread_px)} px</td>
              <td className="num text-right whitespace-nowrap">
                {figure(m.averaged_px)} px
                {m.averaged_px > 0 && <span className="second"> · ΔE {m.worst_delta_e.toFixed(1)}</span>}
              </td>
              <td className={`num text-right whitespace-nowrap ${m.beyond && thin ? "text-error" : ""}`}>
                {m.due_px === null || m.levels.length === 0
                  ? "–"
                  : `${figure(m.drawn_px ?? 0)} of ${figure(Math.round(m.due_px))}`}
                {m.levels.length > 0 && (
                  <span className="second block">
                    mip{" "}
                    {m.levels
                      .map((v) => `${v.level}: ${percent(v.drawn / Math.max(v.due, 1), 0)}`)
                      .join(" · ")}
                  </span>
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Cost({ of }: { of: OverdrawOf }) {
  if (of.laid.length === 0) return null;
  const over = of.limit !== null && of.mean > of.limit;
  return (
    <>
      <p className="mt-2" data-testid="overdraw">
        <b className={over ? "text-error" : ""}>{of.mean.toFixed(2)} blended layers a pixel</b>
        {of.limit !== null && `, ${of.limit} allowed`}; {of.deepest} at the most; {percent(of.idle, 0)} of
        them change nothing.
      </p>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>Laid by</th>
            <th className="text-right!">Fragments</th>
            <th className="text-right!">hidden</th>
            <th className="text-right!">change nothing</th>
            <th className="text-right!">trimming saves</th>
          </tr>
        </thead>
        <tbody>
          {of.laid.slice(0, 8).map((v) => (
            <tr key={v.drawable}>
              <td>{v.drawable}</td>
              <td className="num text-right">{figure(v.fragments)}</td>
              <td className="num text-right">{figure(v.hidden)}</td>
              <td className="num text-right">{figure(v.idle)}</td>
              <td className="num text-right">{v.trims === null ? "–" : percent(v.trims, 0)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Shadows({ of }: { of: ShadowsOf }) {
  const off = of.materials.filter((m) => m.pixels > 0);
  if (of.materials.length === 0) return null;
  return (
    <p className="mt-2" data-testid="shadow-through">
      {off.length === 0
        ? "Shadows of what is blended leave nothing too bright or too dark."
        : off.map((m) => (
            <span key={m.material} className="block">
              <b className={of.of_blended === "meant" ? "text-error" : ""}>{m.material}</b>{" "}
              {m.through === "none" ? "throws no shadow" : `throws a ${m.through} shadow`}:{" "}
              {Math.abs(m.stops).toFixed(2)} stops too {m.stops > 0 ? "bright" : "dark"} at the most{" "}
              <span className="second">on {figure(m.pixels)} px</span>
            </span>
          ))}
    </p>
  );
}
