import { useCallback, useEffect, useRef, useState } from "react";
import { coloursOf, type Drawn, drawPage, type View } from "./draw";
import { drawOverlay, type Spot } from "./overlay";

const MARGIN = 0.5; // of the shown size, drawn beyond each side, so that moving the page only copies pixels
const LARGEST = 256; // pixels a texel at most
const SETTLE_MS = 90;

/** The page on two canvases, one for the page and one for what lies over it: where it stands, how large, and how that is changed. */
export function usePageView(
  drawn: Drawn,
  cursor: [number, number] | null,
  tied: { u: number; v: number } | null,
) {
  const box = useRef<HTMLDivElement>(null);
  const sheet = useRef<HTMLCanvasElement>(null);
  const overlay = useRef<HTMLCanvasElement>(null);
  const surface = useRef<HTMLDivElement>(null);
  const now = useRef({ view: { size: 1, x: 0, y: 0 } as View, side: 1, fitted: false });
  const made = useRef<{ canvas: HTMLCanvasElement; view: View } | null>(null);
  const hover = useRef<Spot | null>(null);
  const [magnified, setMagnified] = useState(1);
  const [width, setWidth] = useState(0);
  const settle = useRef<number>(undefined);
  const edge = drawn.report.resolution;

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

  const shift = (dx: number, dy: number) => {
    const { view } = now.current;
    now.current.view = { size: view.size, x: view.x + dx, y: view.y + dy };
    show(false);
  };
  const point = (spot: Spot | null) => {
    hover.current = spot;
    paintOverlay();
  };
  /** The place on the page under a pointer. */
  const placeOf = (e: { clientX: number; clientY: number }): [number, number] => {
    const r = (surface.current as HTMLDivElement).getBoundingClientRect();
    const { view } = now.current;
    return [(e.clientX - r.left - view.x) / view.size, (e.clientY - r.top - view.y) / view.size];
  };
  const middle = () => now.current.side / 2;
  const grow = (factor: number) => zoom(factor, middle(), middle());
  return { box, sheet, overlay, surface, hover, width, magnified, shift, point, placeOf, grow, fitPage };
}
