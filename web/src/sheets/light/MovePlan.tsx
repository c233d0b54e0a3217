import { figure } from "../../ui/words";
import type { Along } from "./queries";
import { DASHES } from "./strata";

const [WIDTH, HEIGHT, EDGE] = [440, 260, 18];
const NEAR = 3; // times the way's own extent, beyond which ends of rays are cut off

type Point = { x: number; z: number };

/** The way from above: as wide as the light is away; the eye as it stands, and one place's rays to where they truly end. */
export function MovePlan({ along, at }: { along: Along; at: number }) {
  const now = along.moments[at];
  if (!now) return null;
  const eyes = along.moments.map((m) => plan(m.eye));
  const spot = plan(along.spot);
  const ends = along.ends.map(plan);
  const to = fitted([...eyes, spot], ends);
  const here = to(plan(now.eye));
  const [fx, , fz] = now.forward;
  const heading = (Math.atan2(fz ?? 0, fx ?? 0) * 180) / Math.PI;
  const counts = along.classes
    .map((name, k) => ({ name, n: now.rays.filter((c) => c === k).length }))
    .filter((c) => c.n > 0);
  return (
    <figure aria-label="The way from above">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full block border border-base-300"
        role="img"
        aria-label={`Plan of the way, and rays from a place: ${counts.map((c) => `${c.n} ${c.name}`).join(", ")}`}
        data-testid="plan"
      >
        {ends.map((end, k) => {
          const name = along.classes[now.rays[k] ?? -1] ?? "";
          const from = to(spot);
          const until = to(end);
          return (
            <line
              // biome-ignore lint/suspicious/noArrayIndexKey: rays are told apart by their place in the list alone
              key={k}
              x1={from.x}
              y1={from.z}
              x2={until.x}
              y2={until.z}
              stroke={name === "behind the camera" ? "var(--color-error)" : "currentColor"}
              strokeWidth={0.8}
              strokeDasharray={DASHES[name]}
              opacity={0.7}
            />
          );
        })}
        {eyes.slice(1).map((eye, k) => {
          const a = to(eyes[k] as Point);
          const b = to(eye);
          const away = Math.abs(along.moments[k + 1]?.away ?? 0);
          return (
            <line
              // biome-ignore lint/suspicious/noArrayIndexKey: one for each pose, in their order
              key={k}
              x1={a.x}
              y1={a.z}
              x2={b.x}
              y2={b.z}
              stroke="var(--color-primary)"
              strokeWidth={Math.min(1.5 + 5 * away, 14)}
              strokeLinecap="round"
            />
          );
        })}
        <g transform={`translate(${to(spot).x} ${to(spot).z})`} stroke="currentColor" strokeWidth={1.5}>
          <path d="M-6 0H6M0 -6V6" />
        </g>
        <path
          d="M0 0L26 -11M0 0L26 11M5 0A5 5 0 1 1 -5 0A5 5 0 1 1 5 0"
          transform={`translate(${here.x} ${here.z}) rotate(${heading})`}
          fill="none"
          stroke="var(--color-secondary)"
          strokeWidth={1.8}
        />
        <Scale to={to} />
      </svg>
      <figcaption className="second">
        Way as wide as stops away. Cross: a place; its rays end{" "}
        {counts.map((c) => `${c.n} ${c.name}`).join(", ") || "nowhere"}.
      </figcaption>
    </figure>
  );
}

const plan = (place: number[]): Point => ({ x: place[0] ?? 0, z: place[2] ?? 0 });

/** The largest plan that has the way and the place, and as much of the rays as lies near. */
function fitted(must: Point[], also: Point[]) {
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
function Scale({ to }: { to: (p: Point) => Point }) {
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
