import { useState } from "react";
import { Failed } from "../../ui/state";
import { Eye, fitted, HEIGHT, type Point, plan, Scale, WIDTH } from "../light/plan";
import type { Look } from "../look";
import { type FloorOf, useFloor, type Walked } from "./queries";
import { visible } from "./words";

/** From above: what is blended, the way, and the lines on which two have equal keys, as thick as what pops there. */
export function FloorPlan({
  look,
  walked,
  at,
  pop,
}: {
  look: Look;
  walked: Walked;
  at: number;
  pop: number;
}) {
  const [wanted, setWanted] = useState(false);
  const floor = useFloor(look, wanted);
  const asked = walked.pops[pop] ?? walked.pops[0];
  const pair = floor.data?.pairs.find(
    (p) => asked && [p.first, p.second].every((n) => n === asked.first || n === asked.second),
  );
  const eyes = walked.eyes.map(plan);
  const boxes = walked.lanes.map((l) => {
    const [x0 = 0, z0 = 0, x1 = 0, z1 = 0] = l.bounds;
    return {
      name: l.drawable,
      corners: [
        { x: x0, z: z0 },
        { x: x1, z: z1 },
      ] as const,
    };
  });
  const moved = new Set(visible(walked).flatMap((p) => [p.first, p.second]));
  const near = boxes.filter((b) => moved.has(b.name) || moved.size === 0);
  const to = fitted(
    [...eyes, ...near.flatMap((b) => b.corners)],
    boxes.flatMap((b) => b.corners),
  );
  const metre = to({ x: 1, z: 0 }).x - to({ x: 0, z: 0 }).x;
  const eye = eyes[at];
  const headings = walked.lines.filter((l) => l.heading_deg !== null);
  return (
    <figure aria-label="From above">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full block border border-base-300"
        role="img"
        aria-label={`Plan: ${walked.lines.filter((l) => l.floor).length} lines on which two change places`}
        data-testid="floor-plan"
      >
        {floor.data && pair && <Wrong floor={floor.data} cells={pair.cells} to={to} metre={metre} />}
        {boxes.map((b) => {
          const [p, q] = [to(b.corners[0]), to(b.corners[1])];
          return (
            <g key={b.name}>
              <rect
                x={Math.min(p.x, q.x)}
                y={Math.min(p.z, q.z)}
                width={Math.max(Math.abs(q.x - p.x), 2.5)}
                height={Math.max(Math.abs(q.z - p.z), 2.5)}
                fill={moved.has(b.name) ? "var(--color-accent)" : "var(--color-base-300)"}
                opacity={0.85}
              />
              <text
                x={Math.min(p.x, q.x)}
                y={Math.min(p.z, q.z) - 3}
                fontSize={10}
                className="num"
                fill="currentColor"
              >
                {b.name}
              </text>
            </g>
          );
        })}
        <polyline
          points={eyes.map((e) => `${to(e).x},${to(e).z}`).join(" ")}
          fill="none"
          stroke="var(--color-primary)"
          strokeWidth={1.5}
          strokeDasharray="2 3"
        />
        {walked.lines.map((line) => {
          const ends = line.floor && across(line.floor as [number, number, number], to, metre);
          const most = Math.max(
            ...walked.pops
              .filter((p) => [p.first, p.second].every((n) => n === line.first || n === line.second))
              .map((p) => p.pixels),
            0,
          );
          return (
            ends && (
              <line
                key={`${line.first} ${line.second}`}
                x1={ends[0].x}
                y1={ends[0].z}
                x2={ends[1].x}
                y2={ends[1].z}
                stroke="var(--color-error)"
                strokeWidth={1.5 + Math.min(most / 8000, 5)}
                data-testid="flip-line"
              />
            )
          );
        })}
        {eye && <Eye at={to(eye)} forward={walked.forward[at] ?? [0, 0, -1]} />}
        <Scale to={to} />
      </svg>
      <figcaption className="second">
        {headings.length > 0
          ? `No line on any floor: by depth along the view two change places by heading, ${headings.map((h) => `${h.first} and ${h.second} at ${h.heading_deg?.toFixed(2)}° right of −z`).join("; ")}.`
          : "Red: where two have equal keys at the height of the eye, as thick as what pops."}
      </figcaption>
      <Failed error={floor.error} />
      {pair ? (
        <p className="second" role="status">
          Shaded: {pair.wrong_m2.toFixed(1)} of {pair.over_m2.toFixed(1)} m² from which {pair.first} and{" "}
          {pair.second} overlap are where they are drawn the wrong way round.
        </p>
      ) : (
        asked &&
        headings.length === 0 && (
          <button type="button" className="btn btn-sm mt-1" disabled={wanted} onClick={() => setWanted(true)}>
            {wanted ? "Asking every place" : "Ask every place of the floor"}
          </button>
        )
      )}
    </figure>
  );
}

/** Cells of the floor from which a pair is drawn in the wrong order, row by row. */
function Wrong(props: { floor: FloorOf; cells: string[]; to: (p: Point) => Point; metre: number }) {
  const { floor, cells, to, metre } = props;
  return (
    <g fill="var(--color-error)" opacity={0.22} data-testid="wrong-floor">
      {cells.flatMap((row, z) =>
        [...row.matchAll(/x+/g)].map((run) => {
          const p = to({ x: floor.x0 + run.index * floor.cell_m, z: floor.z0 + z * floor.cell_m });
          const wide = run[0].length * floor.cell_m * metre;
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: runs are told apart by their place alone
            <rect key={`${z} ${run.index}`} x={p.x} y={p.z} width={wide} height={floor.cell_m * metre} />
          );
        }),
      )}
    </g>
  );
}

/** The ends of nx x + nz z = c across the drawing. */
function across(
  [nx, nz, c]: [number, number, number],
  to: (p: Point) => Point,
  metre: number,
): [Point, Point] | null {
  const long = Math.hypot(nx, nz);
  if (long < 1e-9) return null;
  const foot = { x: (nx * c) / long ** 2, z: (nz * c) / long ** 2 };
  const reach = (2 * (WIDTH + HEIGHT)) / metre;
  const along = { x: -nz / long, z: nx / long };
  return [
    to({ x: foot.x - along.x * reach, z: foot.z - along.z * reach }),
    to({ x: foot.x + along.x * reach, z: foot.z + along.z * reach }),
  ];
}
