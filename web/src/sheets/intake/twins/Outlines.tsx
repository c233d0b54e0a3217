import type { Schemas } from "../../../api/client";
import { figure } from "../../../ui/words";

type Outline = Schemas["OutlineDocument"];

const HIGH = 120; // px of the tallest of them
const WIDE = 220; // px of the widest

/** What is missing and its candidates as outlines at one scale, each with its width and height. The table beside has the numbers. */
export function Outlines({ what, chosen }: { what: Schemas["MissingDocument"]; chosen: number }) {
  const drawn: { name: string; of: string; outline: Outline; due: boolean; chosen: boolean }[] = [];
  if (what.outline)
    drawn.push({ name: `${what.name}, as due`, of: "", outline: what.outline, due: true, chosen: false });
  for (const [i, t] of what.twins.entries())
    if (t.outline)
      drawn.push({
        name: t.mesh,
        of: t.brought ? t.source : "",
        outline: t.outline,
        due: false,
        chosen: i === chosen,
      });
  if (!drawn.length) return null;
  const wide = Math.max(...drawn.map((d) => d.outline.size[0] ?? 0), 1e-6);
  const high = Math.max(...drawn.map((d) => d.outline.size[1] ?? 0), 1e-6);
  const several = drawn.some((d) => d.of);
  const scale = Math.min(WIDE / wide, HIGH / high);
  return (
    <ul className="flex flex-wrap gap-x-8 gap-y-4 mt-3 items-end" aria-label="Outlines at one scale">
      {drawn.map((d) => (
        <li
          key={`${d.name} ${d.of} ${d.due}`}
          className={d.chosen ? "border-b-2 border-primary pb-1" : "pb-[6px]"}
        >
          <Drawing of={d.outline} scale={scale} due={d.due} />
          <p className={d.due || d.chosen ? "font-semibold" : ""}>{d.name}</p>
          <p className="num second">{d.outline.size.map((v) => figure(v)).join(" × ")} mm</p>
          {several && <p className="second">{d.due ? "\u00a0" : `of ${d.of || "this build"}`}</p>}
        </li>
      ))}
    </ul>
  );
}

/** One outline with a dimension line below it and one at its left. */
function Drawing({ of, scale, due }: { of: Outline; scale: number; due: boolean }) {
  const [w = 0, h = 0] = of.size;
  const width = w * scale;
  const height = h * scale;
  const path = of.lines
    .map(([x0 = 0, y0 = 0, x1 = 0, y1 = 0]) => {
      const points = [x0, h - y0, x1, h - y1].map((v) => (v * scale).toFixed(2));
      return `M${points[0]} ${points[1]}L${points[2]} ${points[3]}`;
    })
    .join("");
  return (
    <svg
      width={width + 30}
      height={height + 24}
      viewBox={`-24 -4 ${width + 30} ${height + 24}`}
      aria-hidden="true"
    >
      <path d={path} fill="none" stroke="currentColor" strokeWidth={due ? 1.6 : 1} />
      <g stroke="currentColor" strokeWidth="0.75" opacity="0.7">
        <path d={`M0 ${height + 10}H${width}M0 ${height + 6}v8M${width} ${height + 6}v8`} />
        <path d={`M-10 0V${height}M-14 0h8M-14 ${height}h8`} />
      </g>
    </svg>
  );
}
