import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { keys } from "../../api/keys";
import { Picture } from "../../ui/Picture";
import { useStops } from "./exposure";
import { fetchLinear, frameUrl, paint, SIZE } from "./picture";

/** One layer of the picture: the PNG, or linear light painted with the exposure offset (not if fixed, as a capture is). */
export function Canvas(props: {
  base: string;
  fixed?: boolean;
  alt: string;
  clip?: string;
  stamp: string;
  from: number;
  to: number;
}) {
  const { base, stamp, from, to } = props;
  const [set] = useStops();
  const stops = props.fixed ? 0 : set;
  const exposed = stops !== 0;
  const linear = useQuery({
    queryKey: keys.linear(base, stamp),
    queryFn: ({ signal }) => fetchLinear(base, signal),
    enabled: exposed,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 20_000,
    retry: 2,
  });
  const canvas = useRef<HTMLCanvasElement>(null);
  const image = useRef<ImageData>(null);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !linear.data || !exposed) return;
    image.current ??= context.createImageData(SIZE.width, SIZE.height);
    const [x0, x1] = [Math.floor(from * SIZE.width), Math.ceil(to * SIZE.width)];
    paint(image.current, linear.data, stops, x0, x1);
    context.putImageData(image.current, 0, 0, x0, 0, x1 - x0, SIZE.height);
  }, [linear.data, stops, exposed, from, to]);
  const style = { clipPath: props.clip };
  if (exposed && linear.data)
    return (
      <canvas
        ref={canvas}
        width={SIZE.width}
        height={SIZE.height}
        role="img"
        aria-label={props.alt}
        className="absolute inset-0 w-full h-full"
        style={style}
      />
    );
  const url = frameUrl(base);
  return (
    <Picture
      draggable={false}
      className="absolute inset-0 w-full h-full select-none"
      style={style}
      alt={props.alt}
      src={stamp ? `${url}&stamp=${encodeURIComponent(stamp)}` : url}
    />
  );
}
