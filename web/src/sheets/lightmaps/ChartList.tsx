import { useState } from "react";
import type { ChartReport } from "../../api/client";
import { figure } from "../../ui/words";

const FEW = 12;

/** The charts as a list: the page for those who cannot see it, and figures for those who can. */
export function ChartList({ report }: { report: ChartReport }) {
  const [all, setAll] = useState(false);
  const shown = all ? report.charts : report.charts.slice(0, FEW);
  return (
    <details>
      <summary>
        <b>Charts one by one</b> <span className="second">{report.charts.length}</span>
      </summary>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>#</th>
            <th className="text-right!">Triangles</th>
            <th className="text-right!">Texels/m</th>
            <th className="text-right!">Skew</th>
            <th className="text-right!">Stretch</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((c, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a chart is known by its number
            <tr key={i}>
              <td className="num">
                {i}
                {c.mirrored ? " mirrored" : ""}
              </td>
              <td className="num text-right">{figure(c.triangles)}</td>
              <td className="num text-right">{figure(c.texels_per_m / report.page_tiles)}</td>
              <td className="num text-right">{c.skew_deg === null ? "–" : `${c.skew_deg.toFixed(2)}°`}</td>
              <td className="num text-right">{c.stretch_l2 === null ? "∞" : c.stretch_l2.toFixed(2)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {report.charts.length > shown.length && (
        <button type="button" className="underline" onClick={() => setAll(true)}>
          Show all {report.charts.length}
        </button>
      )}
    </details>
  );
}
