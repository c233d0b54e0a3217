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
