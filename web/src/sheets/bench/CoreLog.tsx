import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { CoreSample, Layer } from "../../api/client";
import { keys } from "../../api/keys";
import { patientFetch } from "../../api/patient";
import { Failed, Skeleton } from "../../ui/state";
import { figure, shares } from "../../ui/words";
import { encoded, SIZE } from "./picture";

/** The core sample of one pixel as a borehole log: what was laid last stands on top. */
export function CoreLog({
  base,
  stamp,
  at,
  onAt,
}: {
  base: string;
  stamp: string;
  at: [number, number];
  onAt: (p: [number, number]) => void;
}) {
  const sample = useQuery({
    queryKey: keys.core(base, stamp, at),
    queryFn: async () => {
      const answer = await patientFetch(`${base}?x=${at[0]}&y=${at[1]}`);
      const body = await answer.json();
      if (!answer.ok) throw new Error(body.detail);
      return body as CoreSample;
    },
    placeholderData: (before) => before,
    staleTime: 60_000,
  });
  const s = sample.data;
  return (
    <section aria-label="Core sample">
      <div className="flex justify-between items-center gap-2">
        <h2>Core sample</h2>
        <Pixel at={at} onAt={onAt} />
      </div>
      <Failed error={sample.error} />
      {sample.isPending && <Skeleton lines={5} />}
      {s && (
        <>
          <ol className="mt-2 border-t border-base-content" reversed>
            {s.layers
              .map((layer, i) => ({ layer, i }))
              .reverse()
              .map(({ layer, i }) => (
                <Stratum key={`${i + 1} ${layer.pass}`} layer={layer} index={i} scale={s.exposure_scale} />
              ))}
          </ol>
          <p className="num mt-2" data-testid="linear">
            linear {s.linear.map(figure).join(" ")} nit
          </p>
          <p className="second">{s.transforms.join("; ")}</p>
        </>
      )}
    </section>
  );
}

function Pixel({ at, onAt }: { at: [number, number]; onAt: (p: [number, number]) => void }) {
  const [text, setText] = useState(`${at[0]}, ${at[1]}`);
  useEffect(() => setText(`${at[0]}, ${at[1]}`), [at]);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        const [x, y] = text.split(",").map((v) => Number.parseInt(v, 10));
        if (x !== undefined && y !== undefined && x >= 0 && y >= 0 && x < SIZE.width && y < SIZE.height)
          onAt([x, y]);
      }}
    >
      <label className="num flex gap-1 items-center">
        x, y
        <input
          className="input input-xs num w-20"
          aria-label="pixel to drill"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </label>
    </form>
  );
}

/** What things that a light goes through leave of it, where they leave less than all. */
const leftOf = (through?: number[]) =>
  through?.some((v) => v < 0.9995) ? `, ${shares(through)} left by what it goes through` : "";

function details(layer: Layer): string {
  const f = layer.facts;
  const parts: string[] = [layer.state];
  if (layer.depth_m !== null) parts.push(`${figure(layer.depth_m)} m deep`);
  if (layer.pass === "fog")
    parts.push(
      `reads ${figure(f.copy_distance_m as number | null)} m, surface at ${figure(f.surface_distance_m as number | null)} m`,
    );
  for (const l of (f.lights as { light: string; visible: number; through?: number[] }[] | undefined) ?? [])
    parts.push(`${l.light} ${Math.round(l.visible * 100)} % visible${leftOf(l.through)}`);
  return parts.join(" · ");
}

/** The pixel's colour after a stratum, as the display would show it. */
function swatch(layer: Layer, scale: number): string {
  return `rgb(${layer.after.map((v) => encoded(v * scale)).join(" ")})`;
}

function Stratum({ layer, index, scale }: { layer: Layer; index: number; scale: number }) {
  const silent = layer.weight.every((w) => w === 0) || layer.pass === "prepass";
  const share = layer.weight.reduce((a, b) => a + b, 0) / 3;
  const red = layer.alarm;
  return (
    <li className="grid grid-cols-[26px_44px_1fr] border-b hair min-h-[44px]">
      <span className="num second pt-2">{index}</span>
      <span
        className="border-x border-base-content"
        style={{
          background: silent
            ? "repeating-linear-gradient(45deg,#ddd 0 4px,#fff 4px 8px)"
            : swatch(layer, scale),
        }}
      />
      <div className="pl-[10px] py-[6px] min-w-0">
        <b className="capitalize">{layer.pass}</b> <span className="break-words">{layer.drawable}</span>
        <span className="second block text-[11.5px] leading-tight">{details(layer)}</span>
        {!silent && (
          <span className="num second">
            {layer.colour.map(figure).join(" ")} × {figure(share)}
          </span>
        )}
        {red && <span className="block text-error font-semibold">{red}</span>}
      </div>
    </li>
  );
}
