import { type PointerEvent, useRef } from "react";
import { figure } from "../../ui/words";
import type { EyesOf, Walked } from "./queries";
import { nearest, popCount } from "./words";

const [WIDTH, ROW, TOP, FOOT, LEFT, RIGHT] = [860, 40, 22, 30, 128, 128];
const COLOURS = ["#0E5A5F", "#B98847", "#C8561F", "#17252B", "#4F8089", "#7A6A9A", "#5D7F3C", "#A8577A"];

type Props = {
  walked: Walked;
  at: number;
  setAt: (k: number) => void;
  pop: number;
  setPop: (k: number) => void;
  bands?: EyesOf["bands"];
};

/** Lanes of blended things along a move, what is drawn first at the top; a crossing is a change of places, a diamond as large as its pop. */
export function CrossingChart({ walked, at, setAt, pop, setPop, bands = [] }: Props) {
  const box = useRef<SVGSVGElement>(null);
  const lanes = walked.lanes;
  const first = walked.t_s[0] ?? 0;
  const last = walked.t_s.at(-1) ?? 1;
  const height = TOP + ROW * Math.max(lanes.length, 1) + FOOT;
  const x = (t: number) => LEFT + ((t - first) / Math.max(last - first, 1e-9)) * (WIDTH - LEFT - RIGHT);
  const y = (turn: number) => TOP + ROW * turn + ROW / 2;
  const most = Math.max(...walked.pops.map((p) => p.pixels), 1);
  const pick = (e: PointerEvent) => {
    if (e.type === "pointermove" && e.buttons !== 1) return;
    const r = (box.current as SVGSVGElement).getBoundingClientRect();
    const t =
      first + (((e.clientX - r.left) / r.width) * WIDTH - LEFT) * ((last - first) / (WIDTH - LEFT - RIGHT));
    setAt(nearest(walked, t));
  };
  const turnAt = (name: string, t: number) =>
    lanes.find((l) => l.drawable === name)?.turns[nearest(walked, t)] ?? 0;
  return (
    <svg
      ref={box}
      viewBox={`0 0 ${WIDTH} ${height}`}
      className="w-full block touch-none cursor-crosshair"
      role="img"
      aria-label={`Draw order of ${lanes.length} blended things along ${walked.move}, ${popCount(walked)}`}
      data-testid="crossing"
      onPointerDown={pick}
      onPointerMove={pick}
    >
      <defs>
        <pattern
          id="off-order"
          width="6"
          height="6"
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(45)"
        >
          <rect width="6" height="6" fill="var(--color-base-100)" />
          <rect width="3" height="6" fill="var(--color-error)" />
        </pattern>
      </defs>
      <text x={LEFT} y={12} fontSize={11} fill="currentColor">
        drawn first
      </text>
      {walked.looks.map((look, k) =>
        look.pairs.flatMap((pair) =>
          [...new Set([pair.early, pair.late])].map((name) => {
            const [from, to] = halves(
              walked.looks.map((l) => l.t_s),
              k,
            );
            return (
              <rect
                key={`${look.t_s} ${pair.early} ${pair.late} ${name}`}
                x={x(from)}
                width={Math.max(x(to) - x(from), 1)}
                y={y(turnAt(name, look.t_s)) - 9}
                height={18}
                fill="url(#off-order)"
                opacity={0.55}
              />
            );
          }),
        ),
      )}
      {lanes.map((lane, k) => (
        <g key={lane.drawable}>
          <path
            d={laneOf(lane.turns.map((turn, m) => [x(walked.t_s[m] ?? 0), y(turn)]))}
            fill="none"
            stroke={COLOURS[k % COLOURS.length]}
            strokeWidth={5}
            strokeLinejoin="round"
          />
          <text
            x={LEFT - 8}
            y={y(lane.turns[0] ?? 0) + 4}
            textAnchor="end"
            fontSize={12}
            fontWeight={600}
            fill="currentColor"
          >
            {short(lane.drawable)}
          </text>
          <text
            x={WIDTH - RIGHT + 8}
            y={y(lane.turns.at(-1) ?? 0) + 4}
            fontSize={12}
            fontWeight={600}
            fill="currentColor"
          >
            {short(lane.drawable)}
          </text>
        </g>
      ))}
      {bands
        .filter((b) => b.seen)
        .map((b) => {
          const [one, two] = [y(turnAt(b.first, b.from_s)), y(turnAt(b.second, b.from_s))];
          return (
            <rect
              key={`${b.first} ${b.second} ${b.from_s}`}
              x={x(b.from_s)}
              width={Math.max(x(b.to_s) - x(b.from_s), 2)}
              y={Math.min(one, two) - 14}
              height={Math.abs(two - one) + 28}
              fill="var(--color-secondary)"
              opacity={0.3}
              data-testid="eye-band"
            >
              <title>{`the eyes differ about ${b.first} and ${b.second}`}</title>
            </rect>
          );
        })}
      {walked.pops.map((p, k) => {
        const size = p.turn === "harmless" ? 3 : 6 + 9 * Math.sqrt(p.pixels / most);
        const cy = (y(turnAt(p.first, p.t_s)) + y(turnAt(p.second, p.t_s))) / 2;
        return (
          <path
            key={`${p.t_s} ${p.first} ${p.second}`}
            d={`M0 ${-size}L${size} 0L0 ${size}L${-size} 0Z`}
            transform={`translate(${x(p.t_s)} ${cy})`}
            fill={p.turn === "harmless" ? "var(--color-base-300)" : "var(--color-error)"}
            stroke={k === pop ? "var(--color-secondary)" : "#fff"}
            strokeWidth={k === pop ? 3 : 1.5}
            data-testid={`pop-${k}`}
            onPointerDown={(e) => {
              e.stopPropagation();
              setPop(k);
            }}
          />
        );
      })}
      <line x1={LEFT} x2={WIDTH - RIGHT} y1={height - FOOT} y2={height - FOOT} stroke="currentColor" />
      {[0, 0.25, 0.5, 0.75, 1].map((share) => {
        const t = first + share * (last - first);
        return (
          <text
            key={share}
            x={x(t)}
            y={height - 12}
            textAnchor="middle"
            fontSize={11}
            className="num"
            fill="currentColor"
          >
            {figure(Number(t.toFixed(2)))} s
          </text>
        );
      })}
      <line
        x1={x(walked.t_s[at] ?? 0)}
        x2={x(walked.t_s[at] ?? 0)}
        y1={TOP - 4}
        y2={height - FOOT}
        stroke="var(--color-secondary)"
        strokeWidth={1.5}
        data-testid="now"
      />
    </svg>
  );
}

const short = (name: string) => (name.length > 17 ? `${name.slice(0, 16)}…` : name);

/** From half-way to the moment before until half-way to the one after. */
function halves(times: number[], k: number): [number, number] {
  const here = times[k] ?? 0;
  const before = times[k - 1] ?? here;
  const after = times[k + 1] ?? here;
  return [(here + before) / 2, (here + after) / 2];
}

/** A lane: level while its turn is the same, a soft step where it changes. */
function laneOf(points: [number, number][]): string {
  let path = "";
  for (const [k, [x, y]] of points.entries()) {
    const before = points[k - 1];
    if (!before) path = `M${x} ${y}`;
    else if (before[1] === y) path += `L${x} ${y}`;
    else {
      const middle = (before[0] + x) / 2;
      path += `C${middle + 6} ${before[1]} ${middle - 6} ${y} ${x} ${y}`;
    }
  }
  return path;
}
