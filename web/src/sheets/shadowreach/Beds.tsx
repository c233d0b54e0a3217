import type { PointerEvent } from "react";
import { figure } from "../../ui/words";
import { type Axis, along, metresAt, ticks } from "./axis";
import type { Caster, Section } from "./queries";
import { inShort } from "./words";

const [LEFT, RIGHT, BEDS, ROW] = [118, 212, 132, 21];
export const MARGINS = LEFT + RIGHT;
const SHADES = [0.16, 0.26, 0.36, 0.46, 0.56, 0.66, 0.76, 0.86];

type Props = {
  section: Section;
  axis: Axis;
  casters: Caster[];
  chosen: string | null;
  cursor: number | null;
  choose: (name: string) => void;
  move: (metres: number) => void;
};

/** The long section: distance on a log axis, each tier a bed as thick as its texel, casters as bars that end where they drop out. */
export function Beds({ section, axis, casters, chosen, cursor, choose, move }: Props) {
  const height = BEDS + 26 + casters.length * ROW + 34;
  const deepest = Math.max(...section.tiers.map((t) => t.texel_m), section.pixel_m * axis.high * 0.5, 1e-6);
  const thick = (metres: number) => (metres / deepest) * (BEDS - 16);
  const x = (metres: number) => LEFT + along(axis, metres);
  const end = section.tiers.at(-1)?.far_m ?? null;
  const at = (e: PointerEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    const px = ((e.clientX - box.left) / box.width) * (axis.width + MARGINS) - LEFT;
    if (px >= 0) move(metresAt(axis, px));
  };
  return (
    <svg
      viewBox={`0 0 ${axis.width + MARGINS} ${height}`}
      className="w-full block select-none"
      role="img"
      aria-label={`Long section of ${section.light}: ${section.tiers.length} tiers, ${casters.length} casters; the tables below say the same`}
      onPointerMove={(e) => e.buttons === 1 && at(e)}
      onPointerDown={at}
    >
      <text x={0} y={16} className="num" fontSize={10.5} fill="var(--color-secondary)">
        texel as depth
      </text>
      {section.tiers.map((t, i) => {
        const [from, to] = [x(t.near_m), x(t.far_m ?? axis.high)];
        const deep = thick(t.texel_m);
        return (
          <g key={t.name}>
            <rect
              x={from}
              y={8}
              width={Math.max(to - from, 1)}
              height={deep}
              fill="var(--color-primary)"
              opacity={SHADES[Math.min(i, 7)]}
            />
            <line
              x1={from}
              x2={to}
              y1={8 + deep}
              y2={8 + deep}
              stroke="var(--color-base-content)"
              strokeWidth={1.6}
            />
            {to - from > 46 && (
              <text
                paintOrder="stroke"
                stroke="var(--color-base-200)"
                strokeWidth={3}
                x={to - 4}
                y={8 + deep + 12}
                textAnchor="end"
                fontSize={10.5}
                className="num"
                fill="currentColor"
              >
                {figure(Number((t.texel_m * 1000).toPrecision(3)))} mm
              </text>
            )}
          </g>
        );
      })}
      <Footprint section={section} axis={axis} thick={thick} x={x} />
      <line x1={LEFT} x2={LEFT + axis.width} y1={8} y2={8} stroke="currentColor" strokeWidth={1} />
      {end !== null && end < axis.high && section.technique === "cascades" && (
        <g>
          <line x1={x(end)} x2={x(end)} y1={8} y2={BEDS} stroke="var(--color-error)" strokeWidth={4} />
          <text x={x(end) + 7} y={26} fontSize={11.5} fontWeight={700} fill="var(--color-error)">
            reach ends, {figure(end)} m
          </text>
          <text x={x(end) + 7} y={41} fontSize={10.5} className="num" fill="var(--color-secondary)">
            nothing casts beyond
          </text>
        </g>
      )}
      {casters.map((c, i) => (
        <Bar
          key={c.name}
          of={c}
          y={BEDS + 30 + i * ROW}
          axis={axis}
          x={x}
          chosen={c.name === chosen}
          choose={() => choose(c.name)}
        />
      ))}
      <g transform={`translate(0 ${height - 26})`}>
        <line x1={LEFT} x2={LEFT + axis.width} y1={0} y2={0} stroke="currentColor" />
        {ticks(axis).map((m) => (
          <g key={m} transform={`translate(${x(m)} 0)`}>
            <line y1={0} y2={5} stroke="currentColor" />
            <text y={17} textAnchor="middle" fontSize={10.5} className="num" fill="currentColor">
              {figure(m)} m
            </text>
          </g>
        ))}
      </g>
      {cursor !== null && (
        <line
          x1={x(cursor)}
          x2={x(cursor)}
          y1={4}
          y2={height - 26}
          stroke="var(--color-accent)"
          strokeWidth={1.4}
          strokeDasharray="4 3"
        />
      )}
    </svg>
  );
}

/** A pixel's own size at each distance: a bed deeper than it shows as blocks. */
function Footprint({
  section,
  axis,
  thick,
  x,
}: {
  section: Section;
  axis: Axis;
  thick: (m: number) => number;
  x: (m: number) => number;
}) {
  const steps = Array.from({ length: 61 }, (_, i) => axis.low * (axis.high / axis.low) ** (i / 60));
  const points = steps
    .filter((m) => 8 + thick(section.pixel_m * m) <= BEDS)
    .map((m) => `${x(m).toFixed(1)},${(8 + thick(section.pixel_m * m)).toFixed(1)}`);
  return (
    <g>
      <polyline
        points={points.join(" ")}
        fill="none"
        stroke="var(--color-accent)"
        strokeWidth={1.6}
        strokeDasharray="2 3"
      />
      <text x={0} y={32} fontSize={10.5} className="num" fill="var(--color-accent)">
        ┄ a pixel's size
      </text>
    </g>
  );
}

function Bar({
  of,
  y,
  axis,
  x,
  chosen,
  choose,
}: {
  of: Caster;
  y: number;
  axis: Axis;
  x: (m: number) => number;
  chosen: boolean;
  choose: () => void;
}) {
  const lost = of.lost_at !== null;
  const ends = Math.min(of.ends_m ?? axis.high, axis.high);
  const from = x(axis.low);
  const to = Math.max(x(ends), from);
  const tone = lost ? "var(--color-error)" : "currentColor";
  const stands = x(Math.max(of.range_m, axis.low));
  const words = lost ? inShort(of) : "";
  const right = Math.max(to, stands) + 12;
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the drawing's table has the same as buttons
    <g onClick={choose} style={{ cursor: "pointer" }}>
      {chosen && (
        <rect
          x={0}
          y={y - 11}
          width={x(axis.high) + RIGHT}
          height={ROW}
          fill="var(--color-base-300)"
          opacity={0.55}
        />
      )}
      <text x={0} y={y + 4} fontSize={11.5} fontWeight={chosen ? 750 : 600} fill="currentColor">
        {of.name.length > 19 ? `${of.name.slice(0, 18)}…` : of.name}
      </text>
      {to > from && (
        <rect
          x={from}
          y={y - 2.5}
          width={to - from}
          height={5}
          fill="currentColor"
          opacity={lost ? 0.55 : 1}
        />
      )}
      <line x1={stands} x2={stands} y1={y - 8} y2={y + 8} stroke={tone} strokeWidth={2} />
      {lost && <path d={`M${to} ${y - 6}l6 6l-6 6l-6 -6Z`} fill="var(--color-error)" />}
      {words && (
        <text x={right} y={y + 4} fontSize={10.5} className="num" fill="var(--color-error)">
          {words}
        </text>
      )}
    </g>
  );
}
