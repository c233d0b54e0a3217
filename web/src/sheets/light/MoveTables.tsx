import type { Along } from "./queries";
import { nits, seconds, stops } from "./words";

/** What was drawn along a move beside what was forecast, and what each kind of remedy would leave. */
export function MoveTables({
  along,
  drawing,
  setAt,
}: {
  along: Along;
  drawing: boolean;
  setAt: (k: number) => void;
}) {
  const drawn = along.moments.map((m, k) => ({ m, k })).filter(({ m }) => m.measured !== null);
  return (
    <>
      <table className="sheet-table mt-2" data-testid="moments">
        <thead>
          <tr>
            <th>Frames drawn{drawing && ", the worst to come"}</th>
            <th className="text-right!">Due</th>
            <th className="text-right!">Predicted</th>
            <th className="text-right!">Measured</th>
            <th className="text-right!">From the best</th>
          </tr>
        </thead>
        <tbody>
          {drawn.map(({ m, k }) => (
            <tr key={m.t_s}>
              <td>
                <button type="button" className="link num" onClick={() => setAt(k)}>
                  {seconds(m.t_s)}
                </button>
              </td>
              <td className="num text-right whitespace-nowrap">{nits(m.due ?? 0)}</td>
              <td className="num text-right whitespace-nowrap">{nits(m.predicted ?? 0)}</td>
              <td className="num text-right whitespace-nowrap">{nits(m.measured ?? 0)}</td>
              <td className="num text-right whitespace-nowrap">{stops(m.measured_away)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {along.helps.length > 0 && (
        <table className="sheet-table mt-2" data-testid="helps">
          <thead>
            <tr>
              <th>The most that can be had [prediction]</th>
              <th className="text-right!">Drift left</th>
              <th> </th>
            </tr>
          </thead>
          <tbody>
            {along.helps.map((h) => (
              <tr key={h.remedy}>
                <td>{h.remedy}</td>
                <td className="num text-right whitespace-nowrap">{h.drift.toFixed(2)} stops</td>
                <td>{h.enough ? "✓ within the limit" : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
