import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { keys } from "../../api/keys";
import { fetchLinear, linearLight, paint, SIZE } from "./picture";

const RADIUS = 8;
const ZOOM = 11;

/** Seventeen pixels across, enlarged, with the linear value of the one in the middle. */
export function Loupe({ base, stamp, at }: { base: string; stamp: string; at: [number, number] }) {
  const linear = useQuery({
    queryKey: keys.linear(base, stamp),
    queryFn: ({ signal }) => fetchLinear(base, signal),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 20_000,
  });
  const canvas = useRef<HTMLCanvasElement>(null);
  const side = RADIUS * 2 + 1;
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !linear.data) return;
    const { rgb, scale } = linear.data;
    const part = new Float32Array(side * side * 3);
    for (let j = 0; j < side; j++)
      for (let i = 0; i < side; i++) {
        const x = Math.min(SIZE.width - 1, Math.max(0, at[0] + i - RADIUS));
        const y = Math.min(SIZE.height - 1, Math.max(0, at[1] + j - RADIUS));
        for (let c = 0; c < 3; c++)
          part[(j * side + i) * 3 + c] = rgb[(y * SIZE.width + x) * 3 + c] as number;
      }
    const image = context.createImageData(side, side);
    paint(image, linearLight(side, side, part, scale), 0);
    context.putImageData(image, 0, 0);
  }, [linear.data, at, side]);
  const i = (at[1] * SIZE.width + at[0]) * 3;
  const value = linear.data
    ? [0, 1, 2].map((c) => Number((linear.data.rgb[i + c] as number).toPrecision(4)))
    : [];
  return (
    <div className="absolute right-3 bottom-3 bg-base-100 border border-base-content p-1 pointer-events-none">
      <canvas
        ref={canvas}
        width={side}
        height={side}
        style={{ width: side * ZOOM, height: side * ZOOM, imageRendering: "pixelated" }}
      />
      <div className="num text-base-content">
        x{at[0]} y{at[1]} · {value.join(" ") || "…"} nit
      </div>
    </div>
  );
}
