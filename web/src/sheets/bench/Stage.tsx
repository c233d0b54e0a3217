import { type PointerEvent, useRef, useState } from "react";
import { Label, Wipe } from "../../ui/Wipe";
import { Canvas } from "./Canvas";
import { Loupe } from "./Loupe";
import { SIZE } from "./picture";

export type Spot = [number, number, number, number];
type Side = { label: string; base: string; stamp: string; fixed?: boolean };

/** The picture on neutral grey: wipe between two frames, drag a spot, click a pixel to drill it. */
export function Stage(props: {
  left: Side;
  right: Side | null;
  before: boolean;
  spot: Spot | null;
  pixel: [number, number];
  loupe: boolean;
  mayMark: boolean;
  onSpot: (s: Spot) => void;
  onPixel: (p: [number, number]) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [wipe, setWipe] = useState(0.5);
  const [drag, setDrag] = useState<{
    kind: "spot" | "wipe";
    from: [number, number];
    to: [number, number];
  } | null>(null);

  const at = (e: PointerEvent): [number, number] => {
    const r = (box.current as HTMLDivElement).getBoundingClientRect();
    const x = Math.min(
      SIZE.width - 1,
      Math.max(0, Math.floor(((e.clientX - r.left) / r.width) * SIZE.width)),
    );
    const y = Math.min(
      SIZE.height - 1,
      Math.max(0, Math.floor(((e.clientY - r.top) / r.height) * SIZE.height)),
    );
    return [x, y];
  };
  const down = (e: PointerEvent) => {
    if (e.button !== 0) return;
    const from = at(e);
    const onWipe = props.right && Math.abs(from[0] / SIZE.width - wipe) < 0.012;
    box.current?.setPointerCapture(e.pointerId);
    setDrag({ kind: onWipe ? "wipe" : "spot", from, to: from });
  };
  const move = (e: PointerEvent) => {
    if (!drag) return;
    const to = at(e);
    if (drag.kind === "wipe") setWipe(Math.min(0.995, Math.max(0.005, to[0] / SIZE.width)));
    else setDrag({ ...drag, to });
  };
  const up = (e: PointerEvent) => {
    if (!drag) return;
    const to = at(e);
    setDrag(null);
    if (drag.kind === "wipe") return;
    const s = between(drag.from, to);
    if (s[2] < 5 && s[3] < 5) props.onPixel(to);
    else if (props.mayMark && s[2] >= 2 && s[3] >= 2) props.onSpot(s);
  };
  const shown = drag?.kind === "spot" && props.mayMark ? between(drag.from, drag.to) : props.spot;
  const showRight = props.right !== null && !props.before;
  return (
    <div className="stage p-3 grid place-items-center min-h-0 overflow-hidden [container-type:size]">
      <div
        ref={box}
        className="relative aspect-video touch-none"
        style={{ width: "min(100cqw, 177.77cqh)", cursor: "crosshair" }}
        onPointerDown={down}
        onPointerMove={move}
        onPointerUp={up}
        data-testid="picture"
      >
        <Canvas
          base={props.left.base}
          stamp={props.left.stamp}
          fixed={props.left.fixed}
          alt={props.left.label}
          from={0}
          to={showRight ? wipe : 1}
        />
        {showRight && props.right && (
          <>
            <Canvas
              base={props.right.base}
              stamp={props.right.stamp}
              alt={props.right.label}
              clip={`inset(0 0 0 ${wipe * 100}%)`}
              from={wipe}
              to={1}
            />
            <Wipe at={wipe} set={setWipe} />
            <Label side="right" text={props.right.label} />
          </>
        )}
        <Label side="left" text={props.left.label} />
        {shown && <Frame spot={shown} />}
        <Cross at={props.pixel} />
        {props.loupe && (
          <Loupe
            base={(showRight && props.right ? props.right : props.left).base}
            stamp={props.left.stamp}
            at={props.pixel}
          />
        )}
      </div>
    </div>
  );
}

function between(a: [number, number], b: [number, number]): Spot {
  const x = Math.min(a[0], b[0]);
  const y = Math.min(a[1], b[1]);
  return [x, y, Math.abs(a[0] - b[0]) + 1, Math.abs(a[1] - b[1]) + 1];
}

function Frame({ spot }: { spot: Spot }) {
  const [x, y, w, h] = spot;
  const style = {
    left: `${(x / SIZE.width) * 100}%`,
    top: `${(y / SIZE.height) * 100}%`,
    width: `${(w / SIZE.width) * 100}%`,
    height: `${(h / SIZE.height) * 100}%`,
  };
  return (
    <div
      className="absolute border-[1.5px] border-white pointer-events-none"
      style={{ ...style, boxShadow: "0 0 0 1px #000a, inset 0 0 0 1px #000a" }}
    >
      <span className="num absolute -top-[20px] -left-px bg-white text-[#111] px-1 whitespace-nowrap">
        spot {x}, {y}
      </span>
    </div>
  );
}

function Cross({ at }: { at: [number, number] }) {
  return (
    <div
      className="absolute w-[15px] h-[15px] -ml-[7px] -mt-[7px] pointer-events-none"
      style={{
        left: `${((at[0] + 0.5) / SIZE.width) * 100}%`,
        top: `${((at[1] + 0.5) / SIZE.height) * 100}%`,
      }}
    >
      <svg viewBox="-7.5 -7.5 15 15" aria-hidden="true">
        <path d="M-7 0H-2M2 0H7M0-7V-2M0 2V7" stroke="#000" strokeWidth="3" />
        <path d="M-7 0H-2M2 0H7M0-7V-2M0 2V7" stroke="#fff" strokeWidth="1.3" />
      </svg>
    </div>
  );
}
