import { Eye, fitted, HEIGHT, type Point, plan, Scale, WIDTH } from "./plan";
import type { Along } from "./queries";
import { DASHES } from "./strata";

/** The way from above: as wide as the light is away; the eye as it stands, and one place's rays to where they truly end. */
export function MovePlan({ along, at }: { along: Along; at: number }) {
  const now = along.moments[at];
  if (!now) return null;
  const eyes = along.moments.map((m) => plan(m.eye));
  const spot = plan(along.spot);
  const ends = along.ends.map(plan);
  const to = fitted([...eyes, spot], ends);
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
        <Eye at={to(plan(now.eye))} forward={now.forward} />
        <Scale to={to} />
      </svg>
      <figcaption className="second">
        Way as wide as stops away. Cross: a place; its rays end{" "}
        {counts.map((c) => `${c.n} ${c.name}`).join(", ") || "nowhere"}.
      </figcaption>
    </figure>
  );
}
