import { figure } from "../../ui/words";
import type { Look } from "../look";
import { OnDemand } from "./OnDemand";
import { Eye, fitted, HEIGHT, plan, Scale, WIDTH } from "./plan";
import { type Probe, type Reflections as Told, useReflections } from "./queries";

/** Reflection probes, planar mirrors and light grids: where they stand, what they are off by there, what they leave out. */
export function Reflections({ look }: { look: Look }) {
  return (
    <OnDemand
      look={look}
      name="Probes and mirrors"
      title="What do probes, mirrors and grids show?"
      button="Hold them against what is there"
      says="Parallax, leaks, steps, what is stale, what is left out."
      useFound={useReflections}
    >
      {(told) => <Shown told={told} />}
    </OnDemand>
  );
}

function Shown({ told }: { told: Told }) {
  if (!told.probes.length && !told.mirrors.length && !told.movers.length)
    return (
      <p className="second">There are none: coats mirror even light, or what rays through the frame find.</p>
    );
  return (
    <>
      {told.probes.length > 0 && <ProbePlan told={told} />}
      {told.probes.length > 0 && <ProbeTable probes={told.probes} />}
      {told.mirrors.length > 0 && <MirrorTable told={told} />}
      {told.movers.length > 0 && <MoverTable told={told} />}
    </>
  );
}

/** Boxes and places of probes from above, and the eye. */
function ProbePlan({ told }: { told: Told }) {
  const corners = told.probes.flatMap((p) => [plan(p.low_m), plan(p.high_m)]);
  const eyes = told.views.map((v) => plan(v.eye));
  const to = fitted([...corners, ...eyes], []);
  return (
    <figure aria-label="Probes from above" className="mt-1">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full block border border-base-300"
        role="img"
        aria-label={`Plan of ${told.probes.map((p) => `probe ${p.name}: ${wrongOf(p)}`).join("; ")}`}
        data-testid="probe-plan"
      >
        {told.probes.map((p) => {
          const low = to(plan(p.low_m));
          const high = to(plan(p.high_m));
          const at = to(plan(p.place_m));
          const ink = wrongOf(p) === "fits" ? "currentColor" : "var(--color-error)";
          return (
            <g key={p.name} stroke={ink} fill="none" opacity={p.on ? 1 : 0.4}>
              <rect
                x={low.x}
                y={low.z}
                width={high.x - low.x}
                height={high.z - low.z}
                strokeWidth={1.5}
                strokeDasharray={p.boxed ? undefined : "6 4"}
              />
              <path d="M-6 0L0 -6L6 0L0 6Z" transform={`translate(${at.x} ${at.z})`} strokeWidth={1.8} />
              <text x={at.x + 10} y={at.z + 4} fontSize={12} fill={ink} stroke="none">
                {p.name}
              </text>
            </g>
          );
        })}
        {told.views.map((v) => (
          <Eye key={v.viewpoint} at={to(plan(v.eye))} forward={v.forward} />
        ))}
        <Scale to={to} />
      </svg>
      <figcaption className="second">
        Boxes; dashed: what it shows is not put onto its box. Diamonds: where probes were captured.
      </figcaption>
    </figure>
  );
}

const SAYS: Record<string, string> = {
  "reflect.probe": "shows things elsewhere",
  "reflect.leak": "lights what it does not see",
  "reflect.gloss": "too coarse",
  "reflect.seam": "ends with a step",
  "grid.uncovered": "no light grid holds it",
  "grid.leak": "lit from points that do not see it",
  "grid.seam": "stands out from what is baked",
};

/** What is wrong with a probe, in a few words. */
function wrongOf(p: Probe): string {
  const stale = p.fits.some((f) => f.missing)
    ? ["never captured"]
    : p.fits.some((f) => f.why.length)
      ? ["stale"]
      : [];
  const faults = p.seen.flatMap((s) => s.faults.map((f) => SAYS[f] ?? f));
  return [...stale, ...new Set(faults)].join(", ") || "fits";
}

const px = (value: number) => figure(Number(value.toFixed(value < 100 ? 1 : 0)));

/** What most of the frame takes from first. */
const bySight = (probes: Probe[]) =>
  [...probes].sort((a, b) => (b.seen[0]?.pixels ?? 0) - (a.seen[0]?.pixels ?? 0));

function ProbeTable({ probes }: { probes: Probe[] }) {
  return (
    <table className="sheet-table mt-2" data-testid="probes">
      <thead>
        <tr>
          <th>Probe</th>
          <th className="text-right!">Of frame</th>
          <th className="text-right!">Px off</th>
          <th className="text-right!">Stops</th>
          <th className="text-right!">Unseen</th>
          <th className="text-right!">Texel</th>
          <th className="text-right!">Step</th>
        </tr>
      </thead>
      <tbody>
        {bySight(probes).map((p) => {
          const seen = p.seen[0];
          const wrong = wrongOf(p);
          return (
            <tr key={p.name}>
              <td>
                {p.name}
                <span className={wrong === "fits" ? "second block" : "text-error block"}>
                  {wrong === "fits" ? "✓ fits" : `◆ ${wrong}`}
                </span>
                {p.fits
                  .filter((f) => f.why.length > 0)
                  .map((f) => (
                    <span key={f.light_set ?? ""} className="second block">
                      {f.light_set && `${f.light_set}: `}
                      {f.why.join("; ")}
                    </span>
                  ))}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen ? `${(seen.pixels * 100).toFixed(1)} %` : "–"}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen ? `${px(seen.parallax_px)} / ${px(seen.parallax_px_most)}` : "–"}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen ? Math.max(seen.parallax_stops, seen.leak_stops).toFixed(2) : "–"}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen ? `${(seen.unseen * 100).toFixed(0)} %` : "–"}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen ? `${seen.texel_px.toFixed(1)} px` : "–"}
              </td>
              <td className="num text-right whitespace-nowrap">
                {seen?.seam_stops ? seen.seam_stops.toFixed(2) : "–"}
              </td>
            </tr>
          );
        })}
      </tbody>
      <caption className="second caption-bottom text-left pt-1">
        Px off: half of its places, and nineteen in twenty, are off by no more; stops by which that shows, or
        by which it lights what it does not see. Unseen: share of its light that goes there.
      </caption>
    </table>
  );
}

function MirrorTable({ told }: { told: Told }) {
  return (
    <table className="sheet-table mt-2" data-testid="mirrors">
      <thead>
        <tr>
          <th>Mirror</th>
          <th className="text-right!">Px of it</th>
          <th>Leaves out</th>
        </tr>
      </thead>
      <tbody>
        {told.mirrors.map((m) => {
          const gaps = m.seen.flatMap((s) => s.left_out);
          return (
            <tr key={m.name}>
              <td>{m.name}</td>
              <td className="num text-right">{figure(m.seen[0]?.pixels ?? 0)}</td>
              <td className={gaps.length ? "text-error" : ""}>
                {gaps.length === 0 && "nothing"}
                {gaps.map((g) => (
                  <span key={g.shader} className="block">
                    ◆ {g.things.join(", ")}
                    <span className="second block">
                      base shader {g.shader} is not drawn in mirrors; {(g.share * 100).toFixed(1)} % of it
                    </span>
                  </span>
                ))}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** What things that move get of light from around, against what is due. */
function MoverTable({ told }: { told: Told }) {
  return (
    <table className="sheet-table mt-2" data-testid="movers">
      <thead>
        <tr>
          <th>Moves</th>
          <th>Grid</th>
          <th className="text-right!">Drawn</th>
          <th className="text-right!">Due</th>
          <th className="text-right!">Unseen</th>
        </tr>
      </thead>
      <tbody>
        {told.movers.map((m) => (
          <tr key={m.drawable}>
            <td>
              {m.drawable}
              {m.faults.map((f) => (
                <span key={f} className="text-error block">
                  ◆ {SAYS[f] ?? f}
                </span>
              ))}
            </td>
            <td>{m.grids.join(", ") || "none"}</td>
            <td className="num text-right whitespace-nowrap">{figure(Number(m.drawn.toPrecision(3)))} lx</td>
            <td className="num text-right whitespace-nowrap">{figure(Number(m.due.toPrecision(3)))} lx</td>
            <td className="num text-right whitespace-nowrap">{(m.unseen * 100).toFixed(0)} %</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
