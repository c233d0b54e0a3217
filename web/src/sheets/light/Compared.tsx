import { type PointerEvent, useRef, useState } from "react";
import { Picture } from "../../ui/Picture";
import { Label, Wipe } from "../../ui/Wipe";
import type { Look } from "../look";
import { comparedUrl, type Region } from "./queries";

const [WIDTH, HEIGHT] = [960, 540];

type Props = {
  look: Look;
  samples: number;
  wipe: number;
  setWipe: (at: number) => void;
  region: Region | null;
  mark: (region: Region | null) => void;
};

/** The frame as drawn and as due under one wipe, or how many stops they are apart; a drag marks a region. */
export function Compared({ look, samples, wipe, setWipe, region, mark }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [off, setOff] = useState(false);
  const [drag, setDrag] = useState<{ from: [number, number]; to: [number, number] } | null>(null);
  const at = (e: PointerEvent): [number, number] => {
    const r = (box.current as HTMLDivElement).getBoundingClientRect();
    const x = Math.floor(((e.clientX - r.left) / r.width) * WIDTH);
    const y = Math.floor(((e.clientY - r.top) / r.height) * HEIGHT);
    return [Math.min(Math.max(x, 0), WIDTH - 1), Math.min(Math.max(y, 0), HEIGHT - 1)];
  };
  const [wiping, setWiping] = useState(false);
  const down = (e: PointerEvent) => {
    if (e.button !== 0) return;
    const from = at(e);
    box.current?.setPointerCapture(e.pointerId);
    if (!off && Math.abs(from[0] / WIDTH - wipe) < 0.015) setWiping(true);
    else setDrag({ from, to: from });
  };
  const move = (e: PointerEvent) => {
    if (wiping) setWipe(Math.min(0.995, Math.max(0.005, at(e)[0] / WIDTH)));
    else if (drag) setDrag({ ...drag, to: at(e) });
  };
  const up = (e: PointerEvent) => {
    const r = drag && between(drag.from, at(e));
    setWiping(false);
    setDrag(null);
    if (r) mark(r[2] < 8 && r[3] < 8 ? null : r);
  };
  const shown = drag ? between(drag.from, drag.to) : region;
  const layer = "absolute inset-0 w-full h-full select-none [image-rendering:pixelated]";
  return (
    <section aria-label="Frame and reference">
      <div className="stage p-2">
        <div
          ref={box}
          className="relative aspect-video touch-none"
          style={{ cursor: "crosshair" }}
          data-testid="compared"
          onPointerDown={down}
          onPointerMove={move}
          onPointerUp={up}
        >
          {off ? (
            <Picture
              src={comparedUrl(look, samples, "off")}
              alt={`${look.viewpoint}: how many stops the frame is off; too dark hatched, too bright dotted`}
              className={layer}
              draggable={false}
            />
          ) : (
            <>
              <Picture
                src={comparedUrl(look, samples, "standin")}
                alt={`${look.viewpoint} as drawn`}
                className={layer}
                draggable={false}
              />
              <Picture
                src={comparedUrl(look, samples, "reference")}
                alt={`${look.viewpoint} as due`}
                className={layer}
                style={{ clipPath: `inset(0 0 0 ${wipe * 100}%)` }}
                draggable={false}
              />
              <Wipe at={wipe} set={setWipe} />
              <Label side="left" text="as drawn" />
              <Label side="right" text="as due" />
            </>
          )}
          {shown && <Marked region={shown} />}
        </div>
      </div>
      <p className="mt-1 second flex gap-3 items-center">
        <button type="button" className="btn btn-sm" aria-pressed={off} onClick={() => setOff(!off)}>
          {off ? "Show both" : "Show what is off"}
        </button>
        {off ? <Legend /> : "Drag a region to account for it alone; a click takes the whole frame again."}
      </p>
    </section>
  );
}

function Legend() {
  return (
    <span>
      <span aria-hidden="true" style={{ color: "#0E5A5F" }}>
        ▨
      </span>{" "}
      too dark ·{" "}
      <span aria-hidden="true" style={{ color: "#C8561F" }}>
        ⁘
      </span>{" "}
      too bright; full at 2 stops, even within noise
    </span>
  );
}

function Marked({ region: [x, y, w, h] }: { region: Region }) {
  const style = {
    left: `${(x / WIDTH) * 100}%`,
    top: `${(y / HEIGHT) * 100}%`,
    width: `${(w / WIDTH) * 100}%`,
    height: `${(h / HEIGHT) * 100}%`,
  };
  return (
    <div
      className="absolute border-[1.5px] border-white pointer-events-none"
      style={{ ...style, boxShadow: "0 0 0 1px #000a, inset 0 0 0 1px #000a" }}
      data-testid="region"
    />
  );
}

function between(a: [number, number], b: [number, number]): Region {
  const x = Math.min(a[0], b[0]);
  const y = Math.min(a[1], b[1]);
  return [x, y, Math.abs(a[0] - b[0]) + 1, Math.abs(a[1] - b[1]) + 1];
}
