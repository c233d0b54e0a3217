import { figure } from "../../ui/words";

export const [WIDTH, HEIGHT, EDGE] = [440, 260, 18];
const NEAR = 3; // times the extent of what must be seen, beyond which the rest is cut off

export type Point = { x: number; z: number };

/** A place of the world (x, y, z) as seen from above. */
export const plan = (place: number[]): Point => ({ x: place[0] ?? 0, z: place[2] ?? 0 });

/** The largest plan that has the way and the place, and as much of the rays as lies near. */
export function fitted(must: Point[], also: Point[]) {
  const span = (points: Point[]) => {
    const xs = points.map((p) => p.x);
    const zs = points.map((p) => p.z);
    return [Math.min(...xs), Math.max(...xs), Math.min(...zs), Math.max(...zs)] as const;
  };
  const [ax, bx, az, bz] = span(must);
  const far = NEAR * Math.max(bx - ax, bz - az, 2);
  const near = also.filter((p) => p.x > ax - far && p.x < bx + far && p.z > az - far && p.z < bz + far);
  const [cx, dx, cz, dz] = span([...must, ...near]);
  const scale = Math.min(
    (WIDTH - 2 * EDGE) / Math.max(dx - cx, 1),
    (HEIGHT - 2 * EDGE) / Math.max(dz - cz, 1),
  );
  return (p: Point): Point => ({
    x: WIDTH / 2 + (p.x - (cx + dx) / 2) * scale,
    z: HEIGHT / 2 + (p.z - (cz + dz) / 2) * scale,
  });
}

/** A rule of a round number of metres. */
export function Scale({ to }: { to: (p: Point) => Point }) {
  const metre = to({ x: 1, z: 0 }).x - to({ x: 0, z: 0 }).x;
  const long = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500].find((m) => m * metre > 40) ?? 1000;
  return (
    <g transform={`translate(${EDGE / 2} ${HEIGHT - 10})`}>
      <path d={`M0 -4V0H${long * metre}V-4`} fill="none" stroke="currentColor" />
      <text x={long * metre + 6} y={1} fontSize={11} className="num" fill="currentColor">
        {figure(long)} m
      </text>
    </g>
  );
}

/** An eye, and the way it looks. */
export function Eye({ at, forward }: { at: Point; forward: number[] }) {
  const heading = (Math.atan2(forward[2] ?? 0, forward[0] ?? 0) * 180) / Math.PI;
  return (
    <path
      d="M0 0L26 -11M0 0L26 11M5 0A5 5 0 1 1 -5 0A5 5 0 1 1 5 0"
      transform={`translate(${at.x} ${at.z}) rotate(${heading})`}
      fill="none"
      stroke="var(--color-secondary)"
      strokeWidth={1.8}
    />
  );
}
