import { type KeyboardEvent, type PointerEvent, useEffect, useRef, useState } from "react";
import type { Drawn } from "./draw";
import { inside, type Spot, sameTexel } from "./overlay";
import { usePageView } from "./usePageView";

type Props = {
  drawn: Drawn;
  texel: [number, number] | null;
  /** Where the pointer is in the frame, as a page place. */
  tied: { u: number; v: number } | null;
  label: string;
  onHover: (spot: Spot | null) => void;
  onPick: (texel: [number, number]) => void;
};

/** The page on a canvas: drag moves it, the wheel magnifies, a click asks about a texel; arrows and Enter do the same. */
export function ChartPage({ drawn, texel, tied, label, onHover, onPick }: Props) {
  const [cursor, setCursor] = useState<[number, number] | null>(texel);
  useEffect(() => setCursor(texel), [texel]);
  const view = usePageView(drawn, cursor, tied);
  const edge = drawn.report.resolution;
  const drag = useRef<{ x: number; y: number; moved: boolean } | null>(null);
  const move = (e: PointerEvent) => {
    if (drag.current) {
      const [dx, dy] = [e.clientX - drag.current.x, e.clientY - drag.current.y];
      if (!drag.current.moved && Math.hypot(dx, dy) < 4) return;
      drag.current = { x: e.clientX, y: e.clientY, moved: true };
      view.shift(dx, dy);
      return;
    }
    const [u, v] = view.placeOf(e);
    const t = drawn.page.index.at(u, v);
    const spot = inside(u, v) ? { u, v, chart: t < 0 ? -1 : (drawn.page.chart[t] as number) } : null;
    const before = view.hover.current;
    view.point(spot);
    if (!sameTexel(before, spot, edge)) onHover(spot);
  };
  const pick = (at: [number, number]) => {
    setCursor(at);
    onPick(at);
  };
  const press = (e: KeyboardEvent) => {
    const step = e.shiftKey ? 8 : 1;
    const by: Record<string, [number, number]> = {
      ArrowLeft: [-step, 0],
      ArrowRight: [step, 0],
      ArrowUp: [0, -step],
      ArrowDown: [0, step],
    };
    const delta = by[e.key];
    if (delta) {
      const from = cursor ?? [edge >> 1, edge >> 1];
      setCursor([clamp(from[0] + delta[0], edge), clamp(from[1] + delta[1], edge)]);
    } else if (e.key === "Enter" && cursor) pick(cursor);
    else if (e.key === "+" || e.key === "=") view.grow(1.4);
    else if (e.key === "-") view.grow(1 / 1.4);
    else if (e.key === "0") view.fitPage();
    else return;
    e.preventDefault();
  };
  return (
    <div className="relative w-full h-full min-h-0" ref={view.box} data-testid="page">
      <div className="relative" style={{ width: view.width, height: view.width }}>
        <div
          ref={view.surface}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: the page is a widget of its own: arrows move a texel, Enter asks about it
          tabIndex={0}
          role="application"
          aria-label={label}
          className="absolute left-px top-px touch-none"
          style={{ cursor: "crosshair", boxShadow: "0 0 0 1px var(--color-base-content)" }}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            drag.current = { x: e.clientX, y: e.clientY, moved: false };
          }}
          onPointerMove={move}
          onPointerUp={(e) => {
            const moved = drag.current?.moved;
            drag.current = null;
            const [u, v] = view.placeOf(e);
            if (!moved && inside(u, v)) pick([Math.floor(u * edge), Math.floor(v * edge)]);
          }}
          onPointerLeave={() => {
            view.point(null);
            onHover(null);
          }}
          onKeyDown={press}
        >
          <canvas ref={view.sheet} className="block" />
          <canvas ref={view.overlay} className="absolute inset-0" />
        </div>
        <Magnify grow={view.grow} fit={view.fitPage} by={view.magnified} />
      </div>
    </div>
  );
}

function Magnify({ grow, fit, by }: { grow: (factor: number) => void; fit: () => void; by: number }) {
  return (
    <fieldset
      className="absolute right-2 bottom-2 flex gap-px bg-base-300 border border-base-300"
      aria-label="Magnify"
    >
      {(
        [
          ["−", "smaller", () => grow(1 / 1.4)],
          ["Fit", "fit the page", fit],
          ["+", "larger", () => grow(1.4)],
        ] as const
      ).map(([text, name, act]) => (
        <button
          key={name}
          type="button"
          className="bg-base-100 px-2 py-1 font-semibold"
          aria-label={name}
          onClick={act}
        >
          {text}
        </button>
      ))}
      <span className="num bg-base-100 px-2 py-1" data-testid="magnified">
        {by.toFixed(by < 10 ? 1 : 0)}×
      </span>
    </fieldset>
  );
}

const clamp = (v: number, edge: number) => Math.min(Math.max(v, 0), edge - 1);
