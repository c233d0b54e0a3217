import { figure } from "../../ui/words";
import type { EyesOf } from "./queries";
import { metres } from "./words";

/** Where the two eyes of a headset draw blended things in different orders. */
export function EyeTable({ of }: { of: EyesOf }) {
  const seen = of.bands.filter((b) => b.seen !== null);
  if (of.bands.length === 0 && of.pairs.length === 0) return null;
  return (
    <section aria-label="Two eyes" className="mt-3">
      <h2>Two eyes, {figure(of.gap_mm)} mm apart</h2>
      {of.pairs.map((p) => (
        <p key={`${p.left_first} ${p.right_first}`}>
          The left draws <b>{p.left_first}</b> first, the right <b>{p.right_first}</b>{" "}
          <span className="second">
            · {figure(p.pixels)} px of the {p.eye} eye
          </span>
        </p>
      ))}
      {of.bands.length > 0 && (
        <table className="sheet-table mt-1" data-testid="eyes">
          <thead>
            <tr>
              <th>They differ about</th>
              <th>from</th>
              <th>to</th>
              <th className="text-right!">Pixels of an eye</th>
            </tr>
          </thead>
          <tbody>
            {of.bands.map((b) => (
              <tr key={`${b.first} ${b.second} ${b.from_s}`} className={b.seen ? "" : "second"}>
                <td>
                  {b.first} and {b.second}
                </td>
                <td className="num">{placed(b.from_eye, b.to_eye, 0, b.from_s)}</td>
                <td className="num">{placed(b.from_eye, b.to_eye, 1, b.to_s)}</td>
                <td className="num text-right">
                  {b.seen ? figure(b.seen.pixels) : b.drawn ? "not seen" : "not drawn"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {of.bands.length > 0 && seen.length === 0 && <p className="second">None of it is seen.</p>}
    </section>
  );
}

/** An end of a stretch by the axis that it goes along; by time where the camera stands. */
function placed(from: number[], to: number[], end: 0 | 1, t_s: number): string {
  const way = [0, 1, 2].map((i) => Math.abs((to[i] ?? 0) - (from[i] ?? 0)));
  const axis = way.indexOf(Math.max(...way));
  if ((way[axis] ?? 0) < 1e-6) return `${t_s.toFixed(3)} s`;
  return `${"xyz"[axis]} = ${metres((end === 0 ? from : to)[axis] ?? 0)}`;
}
