import type { ChartReport } from "../../api/client";
import { figure, percent } from "../../ui/words";
import type { WhatIf } from "./Repairs";

/** A change that is shown on the page and not kept yet: what it was, what it would be. */
export function Tried({
  whatIf,
  was,
  keep,
  back,
}: {
  whatIf: WhatIf;
  was: ChartReport | undefined;
  keep: () => void;
  back: () => void;
}) {
  const after = whatIf.answer.report;
  const row = (name: string, value: (r: ChartReport) => string) => (
    <span className="mr-4">
      {name}{" "}
      <span className="num">
        {was ? value(was) : "…"} → {value(after)}
      </span>
    </span>
  );
  return (
    <div className="border border-accent border-l-[5px] bg-base-100 px-3 py-2" data-testid="what-if">
      <div className="flex gap-3 items-center">
        <b className="mr-auto">What if: {whatIf.title}</b>
        <button type="button" className="btn btn-sm btn-primary" onClick={keep}>
          Keep it
        </button>
        <button type="button" className="btn btn-sm" onClick={back}>
          Back
        </button>
      </div>
      <p className="second">
        {row("shared", (r) => percent(r.overlap.surface_share, 1))}
        {row("texels/m", (r) => figure(r.page_texels_per_m))}
        {row("gutter", (r) => (r.gutter_texels === null ? "–" : r.gutter_texels.toFixed(1)))}
        {row("charts", (r) => String(r.charts.length))}
        {whatIf.answer.others?.length
          ? `Its map is parted: ${[after.asset, ...whatIf.answer.others].join(", ")}.`
          : ""}
      </p>
    </div>
  );
}
