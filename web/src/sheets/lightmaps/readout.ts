import type { ChartReport } from "../../api/client";
import { figure, percent } from "../../ui/words";
import type { Spot } from "./overlay";

/** What the page says of the place under the pointer, or of itself. */
export function readout(report: ChartReport | undefined, at: Spot | null): string {
  if (!report) return "";
  const gutter = report.gutter_texels === null ? "one chart" : `gutter ${report.gutter_texels.toFixed(1)}`;
  const safe = report.safe_mip !== null && report.safe_mip >= 0 ? `, safe to mip ${report.safe_mip}` : "";
  if (!at)
    return `${report.resolution}² · ${figure(report.page_texels_per_m)} texels/m · overlap ${percent(report.overlap.texel_share, 1)} of texels, ${percent(report.overlap.surface_share, 1)} of surface · ${gutter}${safe}`;
  const place = `texel ${Math.floor(at.u * report.resolution)}, ${Math.floor(at.v * report.resolution)}`;
  const chart = report.charts[at.chart];
  if (!chart) return `${place} · no chart`;
  const skew = chart.skew_deg === null ? "" : ` · skew ${chart.skew_deg.toFixed(2)}°`;
  return `${place} · chart ${at.chart}: ${chart.triangles} triangles, ${figure(chart.texels_per_m / report.page_tiles)} texels/m${skew}${chart.mirrored ? " · mirrored" : ""}`;
}
