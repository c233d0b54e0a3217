import { useState } from "react";
import { Pick } from "../../ui/Pick";
import { Failed, Skeleton } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import type { Look } from "../look";
import { type Differing, type Region, useRoles } from "./queries";
import { stops } from "./words";

const STOCK = ["edit", "play", "output", "reference"];

/** Two roles held side by side: each setting in which they differ, who set it, what it does alone and what the others do without it. */
export function Roles({ look, region }: { look: Look; region: Region | null }) {
  const [first, setFirst] = useState("edit");
  const [second, setSecond] = useState("play");
  const of = `${look.viewpoint} ${look.target} ${first} ${second} ${region?.join(",")} ${look.stamp} ${look.state}`;
  const [asked, setAsked] = useState<string | null>(null);
  const found = useRoles(look, region, first, second, asked === of);
  const sides = found.data;
  const names = sides?.roles ?? STOCK;
  return (
    <section aria-label="Roles side by side" className="mt-4">
      <h2>What differs between roles?</h2>
      <p className="mt-1 flex gap-2 items-center">
        <Pick label="Role" value={first} options={names} pick={setFirst} className="w-28" />
        against
        <Pick label="Against role" value={second} options={names} pick={setSecond} className="w-28" />
        <button type="button" className="btn btn-sm" disabled={first === second} onClick={() => setAsked(of)}>
          Hold side by side
        </button>
      </p>
      <Failed error={found.error} />
      {asked === of && found.isPending && !found.error && <Skeleton lines={3} />}
      {sides && (
        <p className="second">
          {sides.first} is {stops(sides.whole.stops)} against {sides.second}; {percent(sides.whole.share, 1)}{" "}
          of pixels differ
          {sides.leaves.length === 0 && ": no setting does"}
        </p>
      )}
      {sides && sides.leaves.length > 0 && (
        <table className="sheet-table" data-testid="roles">
          <thead>
            <tr>
              <th>Setting</th>
              <th>{sides.first}</th>
              <th>{sides.second}</th>
              <th className="text-right!">Alone</th>
              <th className="text-right!">All but it</th>
            </tr>
          </thead>
          <tbody>
            {sides.leaves.map((d) => (
              <tr key={d.leaf}>
                <td className="num">{d.leaf}</td>
                <td className="num">
                  {written(d.first)}
                  <span className="second block">{d.first_winner}</span>
                </td>
                <td className="num">
                  {written(d.second)}
                  <span className="second block">{d.second_winner}</span>
                </td>
                <td className="num text-right">{d.says || told(d.alone)}</td>
                <td className="num text-right">{told(d.rest)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

const told = (e: Differing["alone"]) => `${stops(e.stops)}, ${percent(e.share, 1)}`;

/** A value as people write it. */
function written(value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (typeof value === "number") return figure(value);
  if (Array.isArray(value)) return value.map(written).join(" ");
  return value === null || value === undefined ? "none" : String(value);
}
