import { type RefObject, useEffect, useState } from "react";
import { Pick } from "../../ui/Pick";
import { Failed, Skeleton } from "../../ui/state";
import type { Look } from "../look";
import { useCaseOf } from "../useCaseOf";
import { GaugeChart } from "./GaugeChart";
import { MomentPicture } from "./MomentPicture";
import { MovePlan } from "./MovePlan";
import { MoveTables } from "./MoveTables";
import { type Along, type Region, useAlong, useMoves } from "./queries";
import { seconds } from "./words";

export type GaugeActs = { time: (by: number) => void; next: () => void; open: () => void };

type Props = {
  look: Look;
  region: Region | null;
  move: string | null;
  setMove: (move: string | null) => void;
  wipe: number;
  /** What keys do while a move is looked along. */
  acts: RefObject<GaugeActs | null>;
};

/** Whether places keep their light while the camera moves: pen lines of drawn and due, where the light is meanwhile, the way in plan. */
export function TideGauge({ look, region, move, setMove, wipe, acts }: Props) {
  const moves = useMoves(look).data;
  const names = [...(moves?.own ?? []), ...(moves?.stock ?? [])];
  const [picked, setPicked] = useState<string | null>(null);
  const forecast = useAlong(look, region, move, false);
  const drawn = useAlong(look, region, forecast.data ? move : null, true);
  const along = drawn.data ?? forecast.data;
  const [at, setAt] = useState(0);
  const open = useCaseOf(look, "drifts while moving", region);
  const k = Math.min(at, (along?.moments.length ?? 1) - 1);
  useEffect(() => {
    acts.current = along
      ? {
          time: (by) => setAt(Math.min(Math.max(k + by, 0), along.moments.length - 1)),
          next: () => setAt(nextBeyond(along, k)),
          open: () => open.mutate(undefined),
        }
      : null;
    return () => {
      acts.current = null;
    };
  });
  const chosen = picked ?? move ?? names[0] ?? "";
  return (
    <section aria-label="Along a move" className="mt-6 border-t border-base-content pt-3">
      <div className="flex items-end gap-3">
        <div className="mr-auto min-w-0">
          <h2>{along ? verdict(along) : "Does it hold while the camera moves?"}</h2>
          <p className="second">
            {along
              ? told(along)
              : `Fixed places of ${region ? "the region" : "the frame"}, their light drawn and due, at each pose.`}
          </p>
        </div>
        <Pick label="Move" above value={chosen} options={names} pick={setPicked} className="w-32" />
        <button type="button" className="btn btn-sm" disabled={!chosen} onClick={() => setMove(chosen)}>
          Look along it
        </button>
        {along && (
          <button type="button" className="btn btn-sm" onClick={() => open.mutate(undefined)}>
            Open a case
          </button>
        )}
      </div>
      <Failed error={forecast.error ?? drawn.error ?? open.error} />
      {move && forecast.isPending && !forecast.error && <Skeleton lines={5} />}
      {along?.moments[k] && (
        <div className="grid grid-cols-[minmax(0,1.5fr)_minmax(360px,1fr)] gap-6 mt-2 items-start">
          <div className="min-w-0">
            <GaugeChart along={along} at={k} setAt={setAt} />
            <MoveTables along={along} drawing={drawn.isPending && !drawn.error} setAt={setAt} />
          </div>
          <div className="min-w-0">
            <MovePlan along={along} at={k} />
            <MomentPicture look={look} move={along.move} at={along.moments[k].t_s} wipe={wipe} />
          </div>
        </div>
      )}
    </section>
  );
}

/** The first pose after one that lies beyond the limit, from the beginning again after the last. */
export function nextBeyond(along: Along, at: number): number {
  const starts = along.exceeds.map(([from]) => along.moments.findIndex((m) => m.t_s === from));
  return starts.find((k) => k > at) ?? starts[0] ?? at;
}

/** Whether it holds, in plain words. */
export function verdict(a: Along): string {
  const drift = (a.measured_drift ?? a.drift).toFixed(2);
  if (a.holds) return `It holds along ${a.move}: drift ${drift} stops`;
  const from = a.exceeds[0]?.[0];
  const since = from === undefined ? "" : `, from ${seconds(from)} on`;
  return `It drifts by ${drift} stops along ${a.move}${since}`;
}

function told(a: Along): string {
  const over = `${a.anchors === 1 ? "one place" : `${a.anchors} places`} over ${a.moments.length} poses · limit ${a.limit_stops} stops`;
  return a.cause ? `${over} · most of what is lost at ${seconds(a.worst_s)} is ${a.cause}` : over;
}
