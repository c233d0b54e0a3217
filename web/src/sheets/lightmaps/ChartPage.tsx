import { type KeyboardEvent, type PointerEvent, useCallback, useEffect, useRef, useState } from "react";
import { type Colours, coloursOf, type Drawn, drawPage, type View } from "./draw";

export type Spot = { u: number; v: number; chart: number };
type Props = {
  drawn: Drawn;
  texel: [number, number] | null;
  /** Where the pointer is in the frame, as a page place. */
  tied: { u: number; v: number } | null;
  label: string;
  onHover: (spot: Spot | null) => void;
  onPick: (texel: [number, number]) => void;
};

const MARGIN = 0.5; // of the shown size, drawn beyond each side, so that moving the page only copies pixels
const LARGEST = 256; // pixels a texel at most
const SETTLE_MS = 90;

/** The page on a canvas: drag moves it, the wheel magnifies, a click asks about a texel; arrows and Enter do the same. */
export function ChartPage({ drawn, texel, tied, label, onHover, onPick }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const sheet = useRef<HTMLCanvasElement>(null);
  const overlay = useRef<HTMLCanvasElement>(null);
  const surface = useRef<HTMLDivElement>(null);
  const now = useRef({ view: { size: 1, x: 0, y: 0 } as View, side: 1, fitted: false });
  const made = useRef<{ canvas: HTMLCanvasElement; view: View } | null>(null);
  const hover = useRef<Spot | null>(null);
  const [cursor, setCursor] = useState<[number, number] | null>(texel);
  const [magnified, setMagnified] = useState(1);
  const [width, setWidth] = useState(0);
  const settle = useRef<number>(undefined);
  const edge = drawn.report.resolution;

  useEffect(() => setCursor(texel), [texel]);

  const paintOverlay = useCallback(() => {
    const canvas = overlay.current;
    const c = canvas?.getContext("2d");
    if (!canvas || !c || !box.current) return;
    const colours = coloursOf(box.current);
    c.clearRect(0, 0, canvas.width, canvas.height);
    drawOverlay(c, drawn, now.current.view, colours, cursor, hover.current, tied);
  }, [drawn, cursor, tied]);

  /** Copy the drawn page where it belongs; draw it anew if it does not reach, or `anew`. */
  const show = useCallback(
    (anew: boolean) => {
      const canvas = sheet.current;
      const c = canvas?.getContext("2d", { alpha: false });
      if (!canvas || !c || !box.current) return;
      const { view, side } = now.current;
      const margin = Math.round(side * MARGIN);
      const old = made.current;
      const same = old && Math.abs(old.view.size - view.size) < 1e-6;
      const off = old
        ? Math.max(Math.abs(view.x + margin - old.view.x), Math.abs(view.y + margin - old.view.y))
        : 0;
      if (anew || !old || (same && off > margin)) {
        const buffer = old?.canvas ?? document.createElement("canvas");
        buffer.width = buffer.height = side + 2 * margin;
        const own = { size: view.size, x: view.x + margin, y: view.y + margin };
        const b = buffer.getContext("2d", { alpha: false });
        if (b) drawPage(b, drawn, own, coloursOf(box.current));
        made.current = { canvas: buffer, view: own };
      } else if (!same) {
        window.clearTimeout(settle.current);
        settle.current = window.setTimeout(() => show(true), SETTLE_MS);
      }
      const { canvas: buffer, view: at } = made.current as { canvas: HTMLCanvasElement; view: View };
      const scale = view.size / at.size;
      c.fillStyle = coloursOf(box.current).paper;
      c.fillRect(0, 0, canvas.width, canvas.height);
      c.drawImage(
        buffer,
        view.x - at.x * scale,
        view.y - at.y * scale,
        buffer.width * scale,
        buffer.height * scale,
      );
      paintOverlay();
    },
    [drawn, paintOverlay],
  );

  const fitPage = useCallback(() => {
    const { side } = now.current;
    now.current.view = { size: side - 24, x: 12, y: 12 };
    setMagnified(1);
    show(true);
  }, [show]);

  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = new ResizeObserver(() => {
      const side = Math.max(Math.floor(Math.min(element.clientWidth, element.clientHeight)) - 2, 64);
      for (const canvas of [sheet.current, overlay.current]) if (canvas) canvas.width = canvas.height = side;
      const before = now.current.side;
      now.current.side = side;
      setWidth(side + 2);
      if (!now.current.fitted || before !== side) {
        now.current.fitted = true;
        fitPage();
      } else show(true);
    });
    measure.observe(element);
    return () => measure.disconnect();
  }, [fitPage, show]);
  useEffect(() => show(true), [show]);
  useEffect(paintOverlay, [paintOverlay]);
  useEffect(() => () => window.clearTimeout(settle.current), []);

  const zoom = useCallback(
    (factor: number, x: number, y: number) => {
      const { view, side } = now.current;
      const size = Math.min(Math.max(view.size * factor, side * 0.5), edge * LARGEST);
      const k = size / view.size;
      now.current.view = { size, x: x - (x - view.x) * k, y: y - (y - view.y) * k };
      setMagnified(size / (side - 24));
      show(false);
    },
    [edge, show],
  );
  useEffect(() => {
    const element = surface.current;
    if (!element) return;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const r = element.getBoundingClientRect();
      zoom(Math.exp(-e.deltaY * 0.0016), e.clientX - r.left, e.clientY - r.top);
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, [zoom]);

  const drag = useRef<{ x: number; y: number; moved: boolean } | null>(null);
  const placeOf = (e: PointerEvent): [number, number] => {
    const r = (surface.current as HTMLDivElement).getBoundingClientRect();
    const { view } = now.current;
    return [(e.clientX - r.left - view.x) / view.size, (e.clientY - r.top - view.y) / view.size];
  };
  const move = (e: PointerEvent) => {
    if (drag.current) {
      const [dx, dy] = [e.clientX - drag.current.x, e.clientY - drag.current.y];
      if (!drag.current.moved && Math.hypot(dx, dy) < 4) return;
      const { view } = now.current;
      now.current.view = { size: view.size, x: view.x + dx, y: view.y + dy };
      drag.current = { x: e.clientX, y: e.clientY, moved: true };
      show(false);
      return;
    }
    const [u, v] = placeOf(e);
    const t = drawn.page.index.at(u, v);
    const spot = inside(u, v) ? { u, v, chart: t < 0 ? -1 : (drawn.page.chart[t] as number) } : null;
    const before = hover.current;
    hover.current = spot;
    paintOverlay();
    if (!same(before, spot, edge)) onHover(spot);
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
    const half = now.current.side / 2;
    const delta = by[e.key];
    if (delta) {
      const from = cursor ?? [edge >> 1, edge >> 1];
      setCursor([clamp(from[0] + delta[0], edge), clamp(from[1] + delta[1], edge)]);
    } else if (e.key === "Enter" && cursor) pick(cursor);
    else if (e.key === "+" || e.key === "=") zoom(1.4, half, half);
    else if (e.key === "-") zoom(1 / 1.4, half, half);
    else if (e.key === "0") fitPage();
    else return;
    e.preventDefault();
  };
  const half = () => now.current.side / 2;
  return (
    <div className="relative w-full h-full min-h-0" ref={box} data-testid="page">
      <div className="relative" style={{ width, height: width }}>
        <div
          ref={surface}
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
            const [u, v] = placeOf(e);
            if (!moved && inside(u, v)) pick([Math.floor(u * edge), Math.floor(v * edge)]);
          }}
          onPointerLeave={() => {
            hover.current = null;
            paintOverlay();
            onHover(null);
          }}
          onKeyDown={press}
        >
          <canvas ref={sheet} className="block" />
          <canvas ref={overlay} className="absolute inset-0" />
        </div>
        <fieldset
          className="absolute right-2 bottom-2 flex gap-px bg-base-300 border border-base-300"
          aria-label="Magnify"
        >
          {(
            [
              ["−", "smaller", () => zoom(1 / 1.4, half(), half())],
              ["Fit", "fit the page", fitPage],
              ["+", "larger", () => zoom(1.4, half(), half())],
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
            {magnified.toFixed(magnified < 10 ? 1 : 0)}×
          </span>
        </fieldset>
      </div>
    </div>
  );
}

const inside = (u: number, v: number) => u >= 0 && u < 1 && v >= 0 && v < 1;
const clamp = (v: number, edge: number) => Math.min(Math.max(v, 0), edge - 1);

function same(a: Spot | null, b: Spot | null, edge: number): boolean {
  if (!a || !b) return a === b;
  return (
    a.chart === b.chart &&
    Math.floor(a.u * edge) === Math.floor(b.u * edge) &&
    Math.floor(a.v * edge) === Math.floor(b.v * edge)
  );
}

function drawOverlay(
  c: CanvasRenderingContext2D,
  d: Drawn,
  view: View,
  colours: Colours,
  cursor: [number, number] | null,
  hover: Spot | null,
  tied: { u: number; v: number } | null,
): void {
  const edge = d.report.resolution;
  const texel = view.size / edge;
  const square = (x: number, y: number, width: number, colour: string) => {
    const grow = Math.max(0, (6 - texel) / 2);
    const at = [
      view.x + x * texel - grow,
      view.y + y * texel - grow,
      texel + 2 * grow,
      texel + 2 * grow,
    ] as const;
    c.lineWidth = width + 2;
    c.strokeStyle = colours.paper;
    c.strokeRect(...at);
    c.lineWidth = width;
    c.strokeStyle = colour;
    c.strokeRect(...at);
  };
  const chart = hover ? hover.chart : tied ? chartAt(d, tied) : -1;
  if (chart >= 0) {
    c.beginPath();
    const b = d.page.borders;
    for (let e = 0; e * 4 < b.length; e++)
      if (d.page.borderChart[e] === chart) {
        c.moveTo(view.x + (b[e * 4] as number) * view.size, view.y + (b[e * 4 + 1] as number) * view.size);
        c.lineTo(
          view.x + (b[e * 4 + 2] as number) * view.size,
          view.y + (b[e * 4 + 3] as number) * view.size,
        );
      }
    c.strokeStyle = colours.ink;
    c.lineWidth = 2.4;
    c.stroke();
  }
  if (hover) square(Math.floor(hover.u * edge), Math.floor(hover.v * edge), 1.4, colours.ink);
  if (tied) square(Math.floor(tied.u * edge), Math.floor(tied.v * edge), 1.8, colours.primary);
  if (cursor) square(cursor[0], cursor[1], 2.4, colours.signal);
}

function chartAt(d: Drawn, at: { u: number; v: number }): number {
  const t = d.page.index.at(at.u, at.v);
  return t < 0 ? -1 : (d.page.chart[t] as number);
}
