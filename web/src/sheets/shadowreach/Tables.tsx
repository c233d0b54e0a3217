import { bytes, figure, percent } from "../../ui/words";
import type { Caster, Section } from "./queries";
import { ending } from "./words";

type Props = { section: Section; chosen: string | null; choose: (name: string) => void };

/** The drawing as tables: tiers, casters worst first, what was lost and what is false. */
export function Tables({ section, chosen, choose }: Props) {
  return (
    <details className="mt-2">
      <summary className="cursor-pointer font-semibold">The section as tables</summary>
      <div className="grid grid-cols-2 gap-6">
        <div>
          <h2 className="mt-2">Tiers</h2>
          <table className="sheet-table">
            <thead>
              <tr>
                <th>Tier</th>
                <th className="text-right!">From</th>
                <th className="text-right!">To</th>
                <th className="text-right!">Texel</th>
                <th className="text-right!">Pixels wide at its end</th>
                <th className="text-right!">Memory</th>
              </tr>
            </thead>
            <tbody>
              {section.tiers.map((t) => (
                <tr key={t.name}>
                  <td>{t.name}</td>
                  <td className="num text-right">{figure(t.near_m)} m</td>
                  <td className="num text-right">{figure(t.far_m)} m</td>
                  <td className="num text-right">{figure(t.texel_m * 1000)} mm</td>
                  <td className="num text-right">
                    {t.far_m === null ? "" : figure(t.texel_m / (section.pixel_m * t.far_m))}
                  </td>
                  <td className="num text-right">{bytes(t.bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <div>
          <h2 className="mt-2">What is not as it should be</h2>
          <table className="sheet-table">
            <thead>
              <tr>
                <th>Lost at, or written by</th>
                <th>Of</th>
                <th className="text-right!">Pixels</th>
              </tr>
            </thead>
            <tbody>
              {[...section.lost, ...section.wrote].slice(0, 16).map((s) => (
                <tr key={`${s.what} ${s.drawable}`}>
                  <td>{s.what}</td>
                  <td>{s.drawable}</td>
                  <td className="num text-right">{figure(s.pixels)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </div>
      <h2 className="mt-3">Casters</h2>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>Caster</th>
            <th className="text-right!">Stands at</th>
            <th>Drawn to</th>
            <th className="text-right!">Shadow due</th>
            <th className="text-right!">Missing</th>
          </tr>
        </thead>
        <tbody>
          {section.casters.map((c) => (
            <Row key={c.name} of={c} chosen={c.name === chosen} choose={choose} />
          ))}
        </tbody>
      </table>
    </details>
  );
}

function Row({ of, chosen, choose }: { of: Caster; chosen: boolean; choose: (name: string) => void }) {
  return (
    <tr>
      <td>
        <button
          type="button"
          className={`underline ${chosen ? "font-bold" : ""}`}
          aria-pressed={chosen}
          onClick={() => choose(of.name)}
        >
          {of.name}
        </button>
      </td>
      <td className="num text-right">{figure(of.range_m)} m</td>
      <td className={of.lost_at ? "text-error" : ""}>{ending(of)}</td>
      <td className="num text-right">{figure(of.due_px)} px</td>
      <td className="num text-right">
        {of.missing_px ? `${figure(of.missing_px)} px, ${percent(of.missing_px / of.due_px, 0)}` : "0"}
      </td>
    </tr>
  );
}
