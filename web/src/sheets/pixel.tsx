import type { PointerEvent } from "react";

/** Size of the frames that sheets show. */
export const [WIDE, HIGH] = [960, 540];

/** The pixel of a frame that is pointed at, where the frame fills its element. */
export function pixelAt(e: PointerEvent): [number, number] {
  const r = e.currentTarget.getBoundingClientRect();
  const x = Math.floor(((e.clientX - r.left) / r.width) * WIDE);
  const y = Math.floor(((e.clientY - r.top) / r.height) * HIGH);
  return [Math.min(Math.max(x, 0), WIDE - 1), Math.min(Math.max(y, 0), HIGH - 1)];
}

/** A square around a pixel, within the frame, as a case marks its spot: x, y, width, height. */
export function spotAround(at: [number, number], half = 40): [number, number, number, number] {
  const x = Math.max(at[0] - half, 0);
  const y = Math.max(at[1] - half, 0);
  return [x, y, Math.min(at[0] + half, WIDE) - x, Math.min(at[1] + half, HIGH) - y];
}

/** A ring around a pixel of a frame. */
export function Ring({ at, r }: { at: [number, number]; r: number }) {
  return (
    <svg
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      className="absolute inset-0 w-full h-full pointer-events-none"
      aria-hidden="true"
    >
      <circle cx={at[0]} cy={at[1]} r={r} fill="none" stroke="#fff" strokeWidth={5} />
      <circle cx={at[0]} cy={at[1]} r={r} fill="none" stroke="#17252b" strokeWidth={2} />
    </svg>
  );
}
