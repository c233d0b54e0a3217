import { useEffect, useState } from "react";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { figure } from "../../ui/words";
import { Leftovers } from "../Leftovers";
import { useMoves } from "../light/queries";
import { useLook } from "../look";
import { spotAround } from "../pixel";
import { SheetBar } from "../SheetBar";
import { useCaseOf } from "../useCaseOf";
import { CrossingChart } from "./CrossingChart";
import { Edges, rimmed, useMeasured } from "./Edges";
import { EyeTable } from "./Eyes";
import { FloorPlan } from "./FloorPlan";
import { FrameEither } from "./FrameEither";
import { ChainAt, LostTable } from "./Glass";
import { PairTable, PopTable } from "./OrderTables";
import { PassTable } from "./PassTable";
import { Prints } from "./Prints";
import { type FrameOrder, type GlassOf, useEyes, useGlass, useOrder, useWalk } from "./queries";
import { Strata } from "./Strata";
import { useOrderKeys } from "./useOrderKeys";
import { largest, nearest, offPx, popCount, sortedBy, title } from "./words";

const REST_MS = 200; // that a moment is stayed at before its frame is drawn

/** Blended things: the order they are drawn in along a move and at a viewpoint, held against where they lie. */
export function DrawOrder() {
  const { info, viewpoints, targets, look, query, set } = useLook();
  const moves = useMoves(look).data;
  const move = query.get("move") ?? moves?.own[0] ?? null;
  const order = useOrder(look);
  const walk = useWalk(look, move);
  const glass = useGlass(look);
  const eyes = useEyes(look, move);
  const measured = useMeasured(look, query.get("measure") !== null);
  const rim = measured.asked ? rimmed(measured.edges.data) : undefined;
  const walked = walk.data;
  const [place, setPlace] = useState({ of: "", at: 0, pop: 0 });
  const of = walked ? `${walked.move} ${look.stamp} ${look.state} ${look.target}` : "";
  const worst = walked ? largest(walked.pops) : 0;
  const here =
    place.of === of
      ? place
      : { of, pop: worst, at: walked ? nearest(walked, walked.pops[worst]?.t_s ?? 0) : 0 };
  const setAt = (at: number) => setPlace({ ...here, at });
  const setPop = (pop: number) =>
    setPlace({ of, pop, at: walked ? nearest(walked, walked.pops[pop]?.t_s ?? 0) : 0 });
  const pop = walked?.pops[here.pop];
  const now = walked?.t_s[here.at] ?? 0;
  const rested = useRested(now);
  const pose = { move: walked ? walked.move : null, at_s: walked ? rested : 0 };
  const [pixel, setPixel] = useState<[number, number] | null>(null);
  const [wipe, setWipe] = useState(0.5);
  const pops = pop !== undefined && pop.turn !== "harmless";
  const open = useCaseOf(
    look,
    symptomOf(pops, order.data, glass.data, rim !== undefined),
    pixel && spotAround(pixel),
  );
  useOrderKeys({
    viewpoints,
    viewpoint: look.viewpoint,
    look: (v) => set({ from: v }),
    time: (by) => walked && setAt(Math.min(Math.max(here.at + by, 0), walked.t_s.length - 1)),
    pop: (by) => walked && setPop(Math.min(Math.max(here.pop + by, 0), Math.max(walked.pops.length - 1, 0))),
    next: () => walked && setPop(nextVisible(walked.pops, here.pop)),
    open: () => open.mutate(undefined),
    pixel,
    setPixel,
  });
  useTitleBlock(
    order.data ? { viewpoint: order.data.viewpoint, blended: String(order.data.order.length) } : {},
  );
  return (
    <Page>
      <SheetBar
        {...{ look, viewpoints, targets, set }}
        title={order.data ? title(order.data, walked, glass.data, rim) : "Draw order"}
        second={
          order.data && (
            <>
              {sortedBy(order.data)}
              {walked && ` · ${popCount(walked)} along ${walked.move}`} · {figure(offPx(order.data))} px off
              at {order.data.viewpoint}
              {look.state === "built" ? " · as it came in" : ""}
            </>
          )
        }
        between={
          <Pick
            label="Move"
            above
            value={move ?? ""}
            options={["", ...(moves?.own ?? []), ...(moves?.stock ?? [])]}
            pick={(v) => set({ move: v || null })}
            className="w-28"
          />
        }
      >
        <button type="button" className="btn btn-sm" onClick={() => open.mutate(undefined)}>
          Open a case
        </button>
      </SheetBar>
      <Failed error={order.error ?? walk.error ?? glass.error ?? info.error ?? open.error} />
      {order.isPending && !order.error && !info.error && <Skeleton lines={9} />}
      {info.data && viewpoints.length === 0 && (
        <Empty title="Nothing to look from">The build has no viewpoints. Add one in Set-up.</Empty>
      )}
      {order.data && (
        <div className="grid grid-cols-[minmax(0,1.5fr)_minmax(360px,1fr)] gap-6 mt-3 items-start">
          <div className="min-w-0">
            {move !== null && walk.isPending && !walk.error && <Skeleton lines={6} />}
            {walked && walked.lanes.length > 0 && (
              <section aria-label="Along the move">
                <h2>Crossing chart</h2>
                <CrossingChart
                  walked={walked}
                  at={here.at}
                  setAt={setAt}
                  pop={here.pop}
                  setPop={setPop}
                  bands={eyes.data?.bands}
                />
                <p className="second">
                  <span aria-hidden="true">◆</span> a pop, as large as the pixels that jump ·{" "}
                  <span aria-hidden="true">▨</span> off its true order where it was looked at
                  {eyes.data?.bands.some((b) => b.seen) && (
                    <>
                      {" "}
                      · <span aria-hidden="true">▮</span> the two eyes of a headset differ
                    </>
                  )}
                </p>
              </section>
            )}
            {walked && pop && <Prints look={look} walked={walked} pop={pop} />}
            {walked && <PopTable walked={walked} pop={here.pop} setPop={setPop} />}
            {eyes.data && <EyeTable of={eyes.data} />}
            <PairTable order={order.data} />
            {glass.data && <LostTable of={glass.data} />}
            {!walked && <ChainAt look={look} pose={pose} at={pixel} />}
            <Edges of={measured} />
            <PassTable look={look} />
            <Leftovers look={look} of="order" />
          </div>
          <div className="min-w-0">
            {walked && walked.lanes.length > 0 && (
              <FloorPlan look={look} walked={walked} at={here.at} pop={here.pop} />
            )}
            <h2 className="mt-3">
              {walked ? (
                <>
                  {walked.move} at <span className="num">{rested.toFixed(2)} s</span>
                </>
              ) : (
                order.data.viewpoint
              )}
            </h2>
            <FrameEither
              {...{ look, pose, wipe, setWipe, at: pixel, pick: setPixel, edges: rim !== undefined }}
            />
            {walked && <ChainAt look={look} pose={pose} at={pixel} />}
            <Strata look={look} pose={pose} at={pixel} />
          </div>
        </div>
      )}
    </Page>
  );
}

/** What a case that is opened here is about: the pop that is looked at, pairs that are off, else what glass loses. */
function symptomOf(pops: boolean, order: FrameOrder | undefined, glass: GlassOf | undefined, rim: boolean) {
  if (pops) return "pops";
  if (order?.pairs.length) return "drawn over what is nearer";
  if (order?.hidden.length) return "layer hidden";
  if (order?.level.some((two) => two.stages)) return "out of turn";
  if (rim) return "rim";
  if (glass?.lost.length) return "glass vanishes";
  return glass?.shut.length ? "see-through wrongly" : "drawn over what is nearer";
}

/** A moment once one has stayed at it. */
function useRested(t: number): number {
  const [rested, setRested] = useState(t);
  useEffect(() => {
    const timer = setTimeout(() => setRested(t), REST_MS);
    return () => clearTimeout(timer);
  }, [t]);
  return rested;
}

/** The next pop that one sees, from the beginning again after the last. */
export function nextVisible(pops: { turn: string }[], at: number): number {
  const seen = pops.map((p, k) => (p.turn === "harmless" ? -1 : k)).filter((k) => k >= 0);
  return seen.find((k) => k > at) ?? seen[0] ?? at;
}
