import { type PointerEvent, useEffect, useMemo, useRef } from "react";
import { buildPath } from "../../api/client";
import { Pick } from "../../ui/Pick";
import { Picture } from "../../ui/Picture";
import type { Spot } from "./overlay";
import type { FrameTexels, Page } from "./page";
import { useTexels } from "./useLightmap";

type Props = {
  project: number;
  build: number;
  stamp: string;
  state: "head" | "built";
  viewpoint: string;
  viewpoints: string[];
  setViewpoint: (v: string) => void;
  asset: string;
  page: Page | null;
  edge: number;
  hover: Spot | null;
  texel: [number, number] | null;
  onTied: (at: { u: number; v: number } | null) => void;
  onPick: (asset: string, at: { u: number; v: number }) => void;
};

const [WIDTH, HEIGHT] = [480, 270];

/** The frame beside the page: pixels of the chart and texel under the pointer light up, and the other way round. */
export function FrameTie(props: Props) {
  const { page, asset, hover, texel, edge } = props;
  const found = useTexels(props.project, props.build, props.viewpoint, props.stamp);
  const canvas = useRef<HTMLCanvasElement>(null);
  const charts = useMemo(
    () => (found.data && page ? chartsOf(found.data, asset, page) : null),
    [found.data, asset, page],
  );
  const mine = useMemo(() => charts?.reduce((n, c) => n + Number(c > -2), 0) ?? 0, [charts]);
  useEffect(() => {
    const c = canvas.current?.getContext("2d");
    if (!c) return;
    c.clearRect(0, 0, WIDTH, HEIGHT);
    if (found.data && charts) light(c, found.data, charts, hover, texel, edge);
  }, [found.data, charts, hover, texel, edge]);
  const at = (e: PointerEvent): { name: string; u: number; v: number } | null => {
    const r = e.currentTarget.getBoundingClientRect();
    const x = Math.floor(((e.clientX - r.left) / r.width) * WIDTH);
    const y = Math.floor(((e.clientY - r.top) / r.height) * HEIGHT);
    const i = y * WIDTH + x;
    const which = found.data?.asset[i] ?? -1;
    if (!found.data || which < 0) return null;
    return {
      name: found.data.names[which] as string,
      u: found.data.place[i * 2] as number,
      v: found.data.place[i * 2 + 1] as number,
    };
  };
  const url = `${buildPath(props.project, props.build)}/frames/${encodeURIComponent(props.viewpoint)}?width=480&height=270&state=${props.state}&stamp=${props.stamp}`;
  return (
    <section aria-label="In the frame">
      <div className="flex items-baseline justify-between mb-1">
        <h2>In the frame</h2>
        <Pick
          label="Viewpoint"
          value={props.viewpoint}
          options={props.viewpoints}
          pick={props.setViewpoint}
          className="w-36"
        />
      </div>
      <div className="stage p-2">
        <div
          className="relative aspect-video"
          data-testid="tied-frame"
          style={{ cursor: "crosshair" }}
          onPointerMove={(e) => {
            const spot = at(e);
            props.onTied(spot && spot.name === asset ? spot : null);
          }}
          onPointerLeave={() => props.onTied(null)}
          onPointerUp={(e) => {
            const spot = at(e);
            if (spot) props.onPick(spot.name, spot);
          }}
        >
          {props.viewpoint && (
            <Picture
              className="absolute inset-0 w-full h-full select-none"
              draggable={false}
              src={url}
              alt={`frame of ${props.viewpoint}`}
            />
          )}
          <canvas ref={canvas} width={WIDTH} height={HEIGHT} className="absolute inset-0 w-full h-full" />
        </div>
      </div>
      <p className="second mt-1">
        {found.data
          ? mine > 0
            ? `${mine} of ${WIDTH * HEIGHT} pixels show it. Click one to ask about its texel.`
            : "This viewpoint does not show it. Click anything else to go there."
          : "Finding which texel each pixel shows…"}
      </p>
    </section>
  );
}

/** The chart each pixel shows: -2 another asset or none, -1 no chart. */
function chartsOf(found: FrameTexels, asset: string, page: Page): Int32Array {
  const which = found.names.indexOf(asset);
  const charts = new Int32Array(found.asset.length).fill(-2);
  for (let i = 0; i < charts.length; i++)
    if (found.asset[i] === which && which >= 0) {
      const t = page.index.at(found.place[i * 2] as number, found.place[i * 2 + 1] as number);
      charts[i] = t < 0 ? -1 : (page.chart[t] as number);
    }
  return charts;
}

function light(
  c: CanvasRenderingContext2D,
  found: FrameTexels,
  charts: Int32Array,
  hover: Spot | null,
  texel: [number, number] | null,
  edge: number,
): void {
  const image = c.createImageData(WIDTH, HEIGHT);
  const out = new Uint32Array(image.data.buffer);
  const on = hover ? [Math.floor(hover.u * edge), Math.floor(hover.v * edge)] : null;
  let any = false;
  for (let i = 0; i < charts.length; i++) {
    if ((charts[i] as number) < -1) continue;
    const x = Math.floor((found.place[i * 2] as number) * edge);
    const y = Math.floor((found.place[i * 2 + 1] as number) * edge);
    if (texel && x === texel[0] && y === texel[1]) out[i] = 0xff1f56c8;
    else if (on && x === on[0] && y === on[1]) out[i] = 0xffffffff;
    else if (hover && hover.chart >= 0 && charts[i] === hover.chart) out[i] = 0x66ffe08c;
    else continue;
    any = true;
  }
  if (any) c.putImageData(image, 0, 0);
}
