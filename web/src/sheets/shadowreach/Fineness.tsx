import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import { type FinenessOf, type Look, useFineness } from "./queries";

type Row = { what: string; measured: string; limit: string; pixels: number; beyond: boolean };

/** Texels at the edges of a light's shadows, joins between its maps, holes, casters thinner than a texel: each beside its limit. */
export function Fineness({ look, light }: { look: Look; light: string }) {
  const [asked, setAsked] = useState<string | null>(null);
  const wanted = asked === light;
  const found = useFineness(look, light, wanted);
  const rows = found.data ? rowsOf(found.data) : [];
  return (
    <section aria-label="Fineness" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>Is it fine enough?</h2>
        {found.data && <span className="second">{verdict(rows)}</span>}
      </div>
      {!wanted && (
        <p className="mt-1 flex gap-2 items-center">
          <button type="button" className="btn btn-sm" onClick={() => setAsked(light)}>
            Measure the shadows of {light}
          </button>
          <span className="second">
            Texels at their edges, joins between maps, holes of cutouts, casters thinner than a texel, how
            soft edges are.
          </span>
        </p>
      )}
      <Failed error={found.error} />
      {wanted && found.isPending && <Skeleton lines={3} />}
      {rows.length > 0 && (
        <table className="sheet-table max-w-3xl mt-1" data-testid="fineness">
          <thead>
            <tr>
              <th>What</th>
              <th>Measured</th>
              <th>Limit</th>
              <th className="text-right!">Pixels</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.what}>
                <td>{r.what}</td>
                <td className={`num ${r.beyond ? "text-error" : ""}`}>
                  {r.measured}
                  {r.beyond && <span className="sr-only"> (beyond its limit)</span>}
                </td>
                <td className="num">{r.limit}</td>
                <td className="num text-right">{figure(r.pixels)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

const three = (v: number) => figure(Number(v.toPrecision(3)));

function rowsOf(f: FinenessOf): Row[] {
  const { edges } = f;
  const rows: Row[] = edges
    ? [
        {
          what: "Edges, at the median",
          measured: `a texel covers ${three(edges.pixels_a_texel)} px`,
          limit: `${three(edges.limit)} px`,
          pixels: edges.pixels,
          beyond: edges.pixels_a_texel > edges.limit,
        },
      ]
    : [];
  for (const j of f.joins)
    rows.push({
      what: `Join at ${three(j.at_m)} m, map ${j.nearer} to ${j.farther}`,
      measured: `ΔE₀₀ ${three(j.step)}${j.wide_px > 1 ? `, mixed over ${three(j.wide_px)} px` : ""}`,
      limit: `ΔE₀₀ ${three(j.limit)}`,
      pixels: j.pixels,
      beyond: j.step > j.limit,
    });
  for (const h of f.holes)
    rows.push({
      what: `Holes of ${h.material}`,
      measured: `${percent(h.drawn, 0)} drawn, ${percent(h.true, 0)} by rays`,
      limit: `${percent(h.limit, 0)} apart`,
      pixels: h.pixels,
      beyond: Math.abs(h.drawn - h.true) > h.limit,
    });
  for (const t of f.thin)
    rows.push({
      what: t.caster,
      measured: `${three(t.texels)} of a texel wide: ${three(t.width_mm)} of ${three(t.texel_mm)} mm`,
      limit: `${three(t.limit)} texel`,
      pixels: t.pixels,
      beyond: t.texels < t.limit,
    });
  for (const e of f.soft)
    rows.push({
      what: `Edges ${three(e.gap_m)} m behind what throws them`,
      measured: `${three(e.drawn_mm)} mm wide, ${three(e.true_mm)} mm by the light's size`,
      limit: `${three(e.limit)} times`,
      pixels: e.pixels,
      beyond: Math.max(e.times, 1 / e.times) > e.limit,
    });
  return rows;
}

function verdict(rows: Row[]): string {
  if (!rows.length) return "no edge, join, hole or thin caster is seen here";
  const beyond = rows.filter((r) => r.beyond).length;
  return beyond
    ? `${beyond} of ${rows.length} beyond a limit`
    : `${rows.length} measured, none beyond a limit`;
}
