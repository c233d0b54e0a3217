import { figure } from "../../ui/words";
import type { Noise } from "./queries";

const [WIDTH, HEIGHT, LEFT, RIGHT, FOOT] = [640, 110, 40, 28, 18];
const GOAL = 0.02;
const APART = 1.3; // of two numbers beneath the axis, that both can be read

/** Noise over samples, both in equal ratios: measured points of the whole frame, and from where it stands (or a region does) the fall by
 *  one over the root to 2 %. */
export function NoiseCurve({ noise }: { noise: Noise }) {
  const points = noise.curve.filter((p) => p.noise !== null && p.noise > 0) as {
    samples: number;
    noise: number;
  }[];
  const first = points[0];
  const now = noise.value ?? 0;
  if (!first || points.length < 2 || now <= 0) return null;
  const goal = noise.at_2_percent !== null && noise.at_2_percent > noise.samples ? noise.at_2_percent : null;
  const far = Math.max(goal ?? 0, noise.samples * 2);
  const high = Math.max(...points.map((p) => p.noise), GOAL) * 1.3;
  const low = Math.min(GOAL, now) / 1.5;
  const x = (n: number) => LEFT + (Math.log(n / 2) / Math.log(far / 2)) * (WIDTH - LEFT - RIGHT);
  const y = (e: number) => (Math.log(high / e) / Math.log(high / low)) * (HEIGHT - FOOT);
  const told = points.map((p) => `${figure(p.samples)}: ${(p.noise * 100).toPrecision(2)} %`).join(", ");
  const beneath = points.map((p) => p.samples);
  if (goal !== null && goal > APART * (beneath.at(-1) ?? 0)) beneath.push(goal);
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="w-full block mt-1"
      role="img"
      aria-label={`Noise by samples: ${told}`}
    >
      <line x1={LEFT} x2={WIDTH} y1={y(GOAL)} y2={y(GOAL)} stroke="currentColor" strokeDasharray="1 3" />
      <line x1={LEFT} x2={WIDTH} y1={HEIGHT - FOOT} y2={HEIGHT - FOOT} stroke="currentColor" />
      <Mark x={LEFT - 6} y={y(GOAL) + 4} anchor="end" text="2 %" />
      <Mark
        x={LEFT - 6}
        y={y(first.noise) + 4}
        anchor="end"
        text={`${(first.noise * 100).toPrecision(2)} %`}
      />
      {beneath.map((n) => (
        <Mark key={n} x={x(n)} y={HEIGHT - 4} anchor="middle" text={figure(n)} />
      ))}
      {goal !== null && (
        <>
          <line
            x1={x(noise.samples)}
            y1={y(now)}
            x2={x(goal)}
            y2={y(GOAL)}
            stroke="var(--color-primary)"
            strokeDasharray="4 3"
          />
          <circle cx={x(goal)} cy={y(GOAL)} r={3.5} fill="none" stroke="var(--color-primary)" />
        </>
      )}
      <polyline
        points={points.map((p) => `${x(p.samples)},${y(p.noise)}`).join(" ")}
        fill="none"
        stroke="var(--color-primary)"
        strokeWidth={1.5}
      />
      {points.map((p) => (
        <circle key={p.samples} cx={x(p.samples)} cy={y(p.noise)} r={3} fill="var(--color-primary)" />
      ))}
      <rect
        x={x(noise.samples) - 4}
        y={y(now) - 4}
        width={8}
        height={8}
        fill="none"
        stroke="var(--color-primary)"
      />
    </svg>
  );
}

function Mark(props: { x: number; y: number; anchor: "end" | "middle"; text: string }) {
  return (
    <text x={props.x} y={props.y} textAnchor={props.anchor} fontSize={11} className="num" fill="currentColor">
      {props.text}
    </text>
  );
}
