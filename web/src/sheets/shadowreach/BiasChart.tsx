import { figure } from "../../ui/words";
import type { Bias, Outcome } from "./queries";

const [WIDTH, HEIGHT, LEFT, BOTTOM, TOP, RIGHT] = [430, 228, 46, 36, 24, 12];
const MARK: Record<string, string> = {
  constant: "M-4 -4h8v8h-8Z",
  slope: "M0 -5l5 9h-10Z",
  "along the normal": "M0 -6l6 6l-6 6l-6 -6Z",
  "along the plane": "M-5 0a5 5 0 1 0 10 0a5 5 0 1 0 -10 0",
  "as set": "M-5 -5l10 10M5 -5l-10 10",
};
const ROOM = 1.1;

const share = (o: Outcome) => (o.foot.limit_mm ? o.foot.lost_mm / o.foot.limit_mm : 0);

/** Pixels that shade themselves against lost contact: what no bias betters, as set, and the corner in which both limits are kept. */
export function BiasChart({ bias }: { bias: Bias }) {
  const isChosen = (o: Outcome) => o.bias.words === bias.chosen?.bias.words;
  // What is chosen lies on top of what it shares its place with.
  const points = [bias.set_to, ...bias.front.map((r) => r.outcome)].sort(
    (a, b) => Number(isChosen(a)) - Number(isChosen(b)),
  );
  const most = Math.max(...points.map((o) => o.false_px), bias.limit_px * 8) * ROOM;
  const high = Math.max(...points.map(share), 1.6) * ROOM;
  const wide = WIDTH - LEFT - RIGHT;
  const x = (px: number) => LEFT + (Math.log1p(px) / Math.log1p(most)) * wide;
  // Both in equal ratios, from none on: what is ten times too much stands beside what is a little too much.
  const y = (part: number) =>
    HEIGHT - BOTTOM - (Math.log1p(3 * part) / Math.log1p(3 * high)) * (HEIGHT - BOTTOM - TOP);
  const ticks = [0, 16, 100, 1000, 10_000, 100_000].filter((v) => v <= most);
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="w-full block"
      role="img"
      aria-label={`Pixels that shade themselves against lost contact, ${points.length} biases; the table says the same`}
    >
      <rect
        x={LEFT}
        y={y(1)}
        width={x(bias.limit_px) - LEFT}
        height={y(0) - y(1)}
        fill="var(--color-success)"
        opacity={0.16}
      />
      <text
        x={LEFT + 4}
        y={y(1) - 4}
        fontSize={10.5}
        fill="var(--color-success)"
        paintOrder="stroke"
        stroke="var(--color-base-200)"
        strokeWidth={3}
      >
        both limits kept
      </text>
      <line x1={LEFT} x2={WIDTH - RIGHT} y1={y(0)} y2={y(0)} stroke="currentColor" />
      <line x1={LEFT} x2={LEFT} y1={TOP} y2={y(0)} stroke="currentColor" />
      <line
        x1={LEFT}
        x2={WIDTH - RIGHT}
        y1={y(1)}
        y2={y(1)}
        stroke="var(--color-rule)"
        strokeDasharray="3 3"
      />
      <text x={LEFT - 5} y={y(1) + 4} textAnchor="end" fontSize={10.5} className="num" fill="currentColor">
        limit
      </text>
      <text x={LEFT - 5} y={y(0) + 4} textAnchor="end" fontSize={10.5} className="num" fill="currentColor">
        0
      </text>
      {[4, 16].map(
        (v) =>
          v < high && (
            <text
              key={v}
              x={LEFT - 5}
              y={y(v) + 4}
              textAnchor="end"
              fontSize={10.5}
              className="num"
              fill="currentColor"
            >
              {v} x
            </text>
          ),
      )}
      <text x={0} y={10} fontSize={10.5} fill="var(--color-secondary)">
        lost contact, by its limit
      </text>
      {ticks.map((v) => (
        <g key={v} transform={`translate(${x(v)} ${y(0)})`}>
          <line y2={4} stroke="currentColor" />
          <text y={15} textAnchor="middle" fontSize={10.5} className="num" fill="currentColor">
            {figure(v)}
          </text>
        </g>
      ))}
      <text x={WIDTH - RIGHT} y={HEIGHT - 4} textAnchor="end" fontSize={10.5} fill="var(--color-secondary)">
        pixels that shade themselves
      </text>
      {points.map((o) => (
        <Mark
          key={`${o.way} ${o.bias.words}`}
          of={o}
          chosen={isChosen(o)}
          at={[x(o.false_px), y(share(o))]}
        />
      ))}
    </svg>
  );
}

function Mark({ of, chosen, at }: { of: Outcome; chosen: boolean; at: [number, number] }) {
  const tone = of.way === "as set" ? "var(--color-error)" : chosen ? "var(--color-accent)" : "currentColor";
  return (
    <g transform={`translate(${at[0]} ${at[1]})`}>
      <title>{`${of.way}: ${of.bias.words}`}</title>
      <path
        d={MARK[of.way] ?? MARK.constant}
        fill={of.way === "as set" ? "none" : tone}
        stroke={tone}
        strokeWidth={of.way === "as set" ? 2.4 : 1}
      />
      {(chosen || of.way === "as set") && (
        <text
          x={9}
          y={-5}
          fontSize={10.5}
          fontWeight={700}
          fill={tone}
          paintOrder="stroke"
          stroke="var(--color-base-200)"
          strokeWidth={3}
          textAnchor={at[0] > WIDTH - 90 ? "end" : "start"}
        >
          {of.way === "as set" ? "as set" : "smallest"}
        </text>
      )}
    </g>
  );
}

/** The mark of a way, to stand beside its name. */
export function WayMark({ way }: { way: string }) {
  return (
    <svg
      viewBox="-7 -7 14 14"
      width={12}
      height={12}
      className="inline-block mr-1 align-[-1px]"
      aria-hidden="true"
    >
      <path
        d={MARK[way] ?? MARK.constant}
        fill={way === "as set" ? "none" : "currentColor"}
        stroke={way === "as set" ? "var(--color-error)" : "currentColor"}
        strokeWidth={way === "as set" ? 2.4 : 1}
      />
    </svg>
  );
}
