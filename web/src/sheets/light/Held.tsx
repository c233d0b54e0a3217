import { bytes } from "../../ui/words";
import type { Look } from "../look";
import { useTargets } from "./queries";

const MIB = 1024 * 1024;

/** What occlusion, bounce and reflection hold in memory, target by target, beside the target's limit; nothing while they are off. */
export function Held({ look }: { look: Look }) {
  const held = useTargets(look).data;
  if (!held || held.targets.length === 0) return null;
  const most = Math.max(...held.targets.map((t) => t.bytes));
  return (
    <section aria-label="Memory" className="mt-4">
      <h2>What these passes hold in memory</h2>
      <p className={held.over ? "text-error" : "second"}>
        {bytes(held.bytes)} at {held.width_px} × {held.height_px} px
        {held.limit_mib > 0 && ` · ${held.over ? "over" : "of"} the limit of ${bytes(held.limit_mib * MIB)}`}
      </p>
      <table className="sheet-table" data-testid="held">
        <thead>
          <tr>
            <th>Target</th>
            <th>
              <span className="sr-only">As a bar</span>
            </th>
            <th className="text-right!">A texel</th>
            <th className="text-right!">Bytes</th>
          </tr>
        </thead>
        <tbody>
          {held.targets.map((t) => (
            <tr key={`${t.pass_name} ${t.target}`}>
              <td>
                {t.pass_name}: {t.target.replaceAll("_", " ")}
                {t.mips && ", with mips"}
                {t.margin_px > 0 && `, margin ${t.margin_px} px`}
              </td>
              <td className="w-24">
                <span
                  className="block h-2 bg-primary"
                  style={{ width: `${Math.max((t.bytes / most) * 100, 1)}%` }}
                />
              </td>
              <td className="num text-right whitespace-nowrap">
                {t.texel_bytes} B{t.divisor > 1 && ` / ${t.divisor} × ${t.divisor} px`}
              </td>
              <td className="num text-right whitespace-nowrap">{bytes(t.bytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
