import { type PointerEvent, useRef } from "react";
import { figure } from "../../ui/words";
import type { Along, Moment } from "./queries";
import { fillOf, Patterns, STRATA } from "./strata";
import { nits, seconds, stops } from "./words";

const [WIDTH, PENS, GAP, BEDS, FOOT, LEFT, RIGHT] = [720, 190, 14, 92, 20, 52, 8];
const HEIGHT = PENS + GAP + BEDS + FOOT;

/** Pen lines of drawn and due over the move, what is let pass as a band, what was drawn as dots; beneath, where the light is. */
export function GaugeChart({ along, at, setAt }: { along: Along; at: number; setAt: (k: number) => void }) {
  const box = useRef<SVGSVGElement>(null);
  const moments = along.moments;
  const first = moments[0]?.t_s ?? 0;
  const last = moments.at(-1)?.t_s ?? 1;
  const x = (t: number) => LEFT + ((t - first) / Math.max(last - first, 1e-9)) * (WIDTH - LEFT - RIGHT);
  const { y, ticks } = scaleOf(along);
  const now = moments[at];
  const pick = (e: PointerEvent) => {
    if (e.type === "pointermove" && e.buttons !== 1) return;
    const r = (box.current as SVGSVGElement).getBoundingClientRect();
    const t =
      first + (((e.clientX - r.left) / r.width) * WIDTH - LEFT) * ((last - first) / (WIDTH - LEFT - RIGHT));
    let near = 0;
    for (const [k, m] of moments.entries())
      if (Math.abs(m.t_s - t) < Math.abs((moments[near]?.t_s ?? 0) - t)) near = k;
    setAt(near);
  };
  return (
    <>
      <svg
        ref={box}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full block touch-none cursor-crosshair"
        role="img"
        aria-label={`Light drawn and due along ${along.move}`}
        data-testid="gauge"
        onPointerDown={pick}
        onPointerMove={pick}
      >
        <Patterns of="gauge" />
        {ticks.map((v) => (
          <g key={v}>
            <line x1={LEFT} x2={WIDTH - RIGHT} y1={y(v)} y2={y(v)} stroke="var(--color-base-300)" />
            <text
              x={LEFT - 6}
              y={y(v) + 4}
              textAnchor="end"
              fontSize={11}
              className="num"
              fill="currentColor"
            >
              {figure(v)}
            </text>
          </g>
        ))}
        <text x={0} y={10} fontSize={11} fill="currentColor">
          nit
        </text>
        {along.exceeds.map(([from, to]) => (
          <rect
            key={from}
            x={x(from ?? 0) - 1}
            width={Math.max(x(to ?? 0) - x(from ?? 0), 2) + 2}
            y={0}
            height={5}
            fill="var(--color-error)"
          />
        ))}
        {runs(moments, (m) => bandOf(m, along.limit_stops)).map((run) => (
          <polygon
            key={run[0]?.[0]}
            points={[
              ...run.map(([t, [low]]) => `${x(t)},${y(low)}`),
              ...run.toReversed().map(([t, [, high]]) => `${x(t)},${y(high)}`),
            ].join(" ")}
            fill="var(--color-primary)"
            opacity={0.14}
          />
        ))}
        <Pen moments={moments} of={(m) => m.due} {...{ x, y }} dash="5 3" />
        <Pen moments={moments} of={(m) => m.predicted} {...{ x, y }} />
        {moments.map((m) =>
          m.measured === null ? null : (
            <circle
              key={m.t_s}
              cx={x(m.t_s)}
              cy={y(m.measured)}
              r={3.5}
              fill="var(--color-base-200)"
              stroke="var(--color-primary)"
              strokeWidth={1.5}
            />
          ),
        )}
        <Beds along={along} x={x} />
        <line x1={LEFT} x2={WIDTH - RIGHT} y1={HEIGHT - FOOT} y2={HEIGHT - FOOT} stroke="currentColor" />
        {timeTicks(first, last).map((t) => (
          <text
            key={t}
            x={x(t)}
            y={HEIGHT - 5}
            textAnchor="middle"
            fontSize={11}
            className="num"
            fill="currentColor"
          >
            {t === last ? seconds(t) : figure(t)}
          </text>
        ))}
        {now && (
          <line
            x1={x(now.t_s)}
            x2={x(now.t_s)}
            y1={0}
            y2={HEIGHT - FOOT}
            stroke="var(--color-secondary)"
            strokeWidth={1.5}
            data-testid="now"
          />
        )}
      </svg>
      <p className="num mt-1" role="status" aria-label="At this moment">
        {now && readout(now)}
      </p>
      <p className="second">
        Dashed: due. Line: drawn [prediction]; dots: drawn and measured. Band: within the limit of the best
        moment. Beneath: where the light from other surfaces is.
      </p>
    </>
  );
}

/** A pen line; it is lifted where nothing is in sight. */
function Pen(props: {
  moments: Moment[];
  of: (m: Moment) => number | null;
  x: (t: number) => number;
  y: (v: number) => number;
  dash?: string;
}) {
  return runs(props.moments, props.of).map((run) => (
    <polyline
      key={run[0]?.[0]}
      points={run.map(([t, v]) => `${props.x(t)},${props.y(v)}`).join(" ")}
      fill="none"
      stroke={props.dash ? "currentColor" : "var(--color-primary)"}
      strokeWidth={1.5}
      strokeDasharray={props.dash}
    />
  ));
}

/** Strata of where the light is, the frame's own at the bottom. */
function Beds({ along, x }: { along: Along; x: (t: number) => number }) {
  const of = (m: Moment) => STRATA.map((name) => m.light[along.classes.indexOf(name)] ?? 0);
  const most = Math.max(...along.moments.map((m) => of(m).reduce((a, b) => a + b, 0)), 1e-12);
  const base = HEIGHT - FOOT;
  const up = (v: number) => base - (v / most) * BEDS;
  return runs(along.moments, (m) => (m.in_sight > 0 ? of(m) : null)).map((run) =>
    STRATA.map((name, k) => {
      const under = (v: number[]) => v.slice(0, k).reduce((a, b) => a + b, 0);
      if (!run.some(([, v]) => (v[k] ?? 0) > 0)) return null;
      const top = run.map(([t, v]) => `${x(t)},${up(under(v) + (v[k] ?? 0))}`);
      const bottom = run.toReversed().map(([t, v]) => `${x(t)},${up(under(v))}`);
      return (
        <polygon
          key={`${name} ${run[0]?.[0]}`}
          points={[...top, ...bottom].join(" ")}
          fill={fillOf(name, "gauge")}
          stroke="currentColor"
          strokeWidth={0.5}
        >
          <title>{name}</title>
        </polygon>
      );
    }),
  );
}

/** Runs of moments at which something is known. */
function runs<T>(moments: Moment[], of: (m: Moment) => T | null): [number, T][][] {
  const found: [number, T][][] = [];
  let open = false;
  for (const m of moments) {
    const v = of(m);
    if (v === null) open = false;
    else {
      if (!open) found.push([]);
      found.at(-1)?.push([m.t_s, v]);
      open = true;
    }
  }
  return found;
}

function bandOf(m: Moment, limit: number): [number, number] | null {
  if (m.predicted === null || m.away === null) return null;
  const best = m.predicted / 2 ** m.away;
  return [best / 2 ** limit, best * 2 ** limit];
}

const MOST_STOPS = 8; // of the brightest down, that are drawn

/** In equal ratios, between what is drawn and due at the most and the least. */
function scaleOf(along: Along) {
  const values = along.moments
    .flatMap((m) => [m.due, m.predicted, m.measured, ...(bandOf(m, along.limit_stops) ?? [])])
    .filter((v): v is number => v !== null && v > 0);
  const high = Math.max(...values, 1e-9) * 1.15;
  const low = Math.max(Math.min(...values, high / 4), high / 2 ** MOST_STOPS) / 1.15;
  const span = Math.log(high / low);
  const y = (v: number) => 8 + (Math.log(high / Math.max(v, low)) / span) * (PENS - 8);
  const step = 2 ** Math.max(Math.ceil(Math.log2(high / low) / 4), 1);
  const ticks = [];
  for (let v = 2 ** Math.ceil(Math.log2(low)); v <= high; v *= step) ticks.push(Number(v.toPrecision(3)));
  return { y, ticks };
}

function timeTicks(first: number, last: number): number[] {
  const count = 5;
  return Array.from({ length: count }, (_, k) =>
    Number((first + ((last - first) * k) / (count - 1)).toFixed(2)),
  );
}

/** What the gauge says at a moment. */
export function readout(m: Moment): string {
  if (m.due === null) return `${seconds(m.t_s)}: out of sight`;
  const drawn = m.measured ?? m.predicted ?? 0;
  const away = m.measured === null ? m.away : m.measured_away;
  const kind = m.measured === null ? "[prediction]" : "measured";
  return `${seconds(m.t_s)}: due ${nits(m.due)}, drawn ${nits(drawn)}, ${stops(away)} from its best moment ${kind}`;
}
