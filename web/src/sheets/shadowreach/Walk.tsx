import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import { type Look, type Move, useWalk, type WalkOf } from "./queries";

const MOVES: { move: Move; words: string }[] = [
  { move: "aside", words: "Step aside" },
  { move: "retreat", words: "Step back" },
  { move: "turn", words: "Turn" },
];
const [WIDTH, HEIGHT] = [420, 84];

/** A few steps from the viewpoint: which fixed places swim, which a join passes, whose shadow drops out. */
export function Walk({ look, light, technique }: { look: Look; light: string; technique: string }) {
  const [asked, setAsked] = useState<{ light: string; move: Move } | null>(null);
  const move = asked?.light === light ? asked.move : null;
  const found = useWalk(look, light, move);
  if (technique === "rays") return null;
  const walk = found.data;
  return (
    <section aria-label="Walk" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>Does it stand still?</h2>
        {walk && <span className="second">{verdict(walk)}</span>}
      </div>
      <p className="mt-1 flex gap-2 items-center">
        {MOVES.map((m) => (
          <button
            key={m.move}
            type="button"
            className="btn btn-sm"
            aria-pressed={move === m.move}
            onClick={() => setAsked({ light, move: m.move })}
          >
            {m.words}
          </button>
        ))}
        {!move && (
          <span className="second">
            Eight steps of 25 mm, or of .3°: the same places of the world, asked at each.
          </span>
        )}
      </p>
      <Failed error={found.error} />
      {move && found.isPending && <Skeleton lines={3} />}
      {walk && (
        <div className="grid grid-cols-[minmax(240px,1fr)_minmax(0,2fr)] gap-6 items-start mt-1">
          <div>
            <Strip walk={walk} />
            <p className="second">Full: swims. Hollow: a join passes. Dashed: drops out.</p>
          </div>
          <Casters walk={walk} />
        </div>
      )}
    </section>
  );
}

/** Flips at each step: full what swims, hollow what a join passes, crossed what drops out. */
function Strip({ walk }: { walk: WalkOf }) {
  const most = Math.max(...walk.steps.map((s) => s.swims + s.joined + s.dropped), 1);
  const wide = (WIDTH - 10) / walk.steps.length;
  const high = (n: number) => (n / most) * (HEIGHT - 24);
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="w-full block"
      role="img"
      aria-label={`Flips at each of ${walk.steps.length} steps: ${walk.steps.map((s) => s.swims).join(", ")} swim`}
    >
      <line x1={0} x2={WIDTH} y1={HEIGHT - 16} y2={HEIGHT - 16} stroke="currentColor" />
      {walk.steps.map((s, i) => (
        <g key={s.at} transform={`translate(${5 + i * wide} ${HEIGHT - 16})`}>
          <title>{`${s.swims} swim, ${s.joined} at a join, ${s.dropped} drop out`}</title>
          <rect x={2} width={wide - 6} y={-high(s.swims)} height={high(s.swims)} fill="var(--color-error)" />
          <rect
            x={2}
            width={wide - 6}
            y={-high(s.swims + s.joined)}
            height={high(s.joined)}
            fill="none"
            stroke="currentColor"
          />
          <rect
            x={2}
            width={wide - 6}
            y={-high(s.swims + s.joined + s.dropped)}
            height={high(s.dropped)}
            fill="none"
            stroke="var(--color-error)"
            strokeDasharray="2 2"
          />
          <text
            x={(wide - 2) / 2}
            y={12}
            textAnchor="middle"
            fontSize={10}
            className="num"
            fill="currentColor"
          >
            {figure(Number(s.at.toPrecision(3)))}
            {i === walk.steps.length - 1 && ` ${walk.unit}`}
          </text>
        </g>
      ))}
    </svg>
  );
}

function Casters({ walk }: { walk: WalkOf }) {
  return (
    <table className="sheet-table" data-testid="walk">
      <thead>
        <tr>
          <th>Caster</th>
          <th className="text-right!">Places of its shadow</th>
          <th className="text-right!">Swim</th>
          <th className="text-right!">Drops out</th>
        </tr>
      </thead>
      <tbody>
        {walk.casters.slice(0, 8).map((c) => (
          <tr key={c.name}>
            <td>{c.name}</td>
            <td className="num text-right">{figure(c.dark)}</td>
            <td className={`num text-right ${c.swims ? "text-error" : ""}`}>{figure(c.swims)}</td>
            <td className="num text-right">
              {c.drops_out_m === null ? "–" : `at ${figure(Number(c.drops_out_m.toPrecision(3)))} m`}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function verdict(w: WalkOf): string {
  const flips = [
    w.joined ? `${figure(w.joined)} flip at a join` : "",
    w.dropped ? `${figure(w.dropped)} drop out` : "",
  ].filter(Boolean);
  const swims = w.swims
    ? `${figure(w.swims)} of ${figure(w.dark)} places in shadow swim: ${percent(w.share, 1)}, limit ${percent(w.limit, 0)}`
    : `none of ${figure(w.dark)} places in shadow swims`;
  return [swims, ...flips, `${figure(w.points)} fixed places`].join(" · ");
}
