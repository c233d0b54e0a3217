import { figure } from "../../ui/words";
import type { Noise } from "./queries";

const [WIDTH, HEIGHT, LEFT, FOOT] = [640, 110, 40, 18];
const GOAL = 0.02;

/** Noise over samples, both in equal ratios: measured points, the fall by one over the root, and where 2 % would be reached. */
export function NoiseCurve({ noise }: { noise: Noise }) {
  const points = noise.curve.filter((p) => p.noise !== null && p.noise > 0) as {
    samples: number;
    noise: number;
  }[];
  const last = points.at(-1);
  if (!last || points.length < 2) return null;
  const far = Math.max(noise.at_2_percent ?? 0, last.samples * 2);
  const high = Math.max(...points.map((p) => p.noise), GOAL) * 1.3;
  const low = Math.min(GOAL, last.noise) / 1.5;
  const x = (n: number) => LEFT + (Math.log(n / 2) / Math.log(far / 2)) * (WIDTH - LEFT - 12);
  const y = (e: number) => (Math.log(high / e) / Math.log(high / low)) * (HEIGHT - FOOT);
  const fall = (n: number) => last.noise * Math.sqrt(last.samples / n);
  const told = points.map((p) => `${figure(p.samples)}: ${(p.noise * 100).toPrecision(2)} %`).join(", ");
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="w-full block mt-1"
      role="img"
      aria-label={`Noise by samples: ${told}`}
    >
      <line x1={LEFT} x2={WIDTH} y1={y(GOAL)} y2={y(GOAL)} stroke="currentColor" strokeDasharray="1 3" />
      <text x={LEFT - 6} y={y(GOAL) + 4} textAnchor="end" fontSize={11} className="num" fill="currentColor">
        2 %
      </text>
      <text
        x={LEFT - 6}
        y={y(points[0]?.noise ?? high) + 4}
        textAnchor="end"
        fontSize={11}
        className="num"
        fill="currentColor"
      >
        {((points[0]?.noise ?? 0) * 100).toPrecision(2)} %
      </text>
      <line x1={LEFT} x2={WIDTH} y1={HEIGHT - FOOT} y2={HEIGHT - FOOT} stroke="currentColor" />
      {!noise.refused && (
        <line
          x1={x(last.samples)}
          y1={y(last.noise)}
          x2={x(far)}
          y2={y(Math.max(fall(far), low))}
          stroke="var(--color-primary)"
          strokeDasharray="4 3"
        />
      )}
      <polyline
        points={points.map((p) => `${x(p.samples)},${y(p.noise)}`).join(" ")}
        fill="none"
        stroke="var(--color-primary)"
        strokeWidth={1.5}
      />
      {points.map((p) => (
        <g key={p.samples}>
          <circle cx={x(p.samples)} cy={y(p.noise)} r={3} fill="var(--color-primary)" />
          <text
            x={x(p.samples)}
            y={HEIGHT - 4}
            textAnchor="middle"
            fontSize={11}
            className="num"
            fill="currentColor"
          >
            {figure(p.samples)}
          </text>
        </g>
      ))}
      {noise.at_2_percent !== null && noise.at_2_percent > last.samples && (
        <g>
          <circle cx={x(noise.at_2_percent)} cy={y(GOAL)} r={3.5} fill="none" stroke="var(--color-primary)" />
          <text
            visibility={noise.at_2_percent < 1.3 * last.samples ? "hidden" : undefined}
            x={x(noise.at_2_percent)}
            y={HEIGHT - 4}
            textAnchor="middle"
            fontSize={11}
            className="num"
            fill="currentColor"
          >
            {figure(noise.at_2_percent)}
          </text>
        </g>
      )}
    </svg>
  );
}
