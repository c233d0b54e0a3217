import { useRef, useState } from "react";
import { Page } from "../../ui/Page";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { figure } from "../../ui/words";
import { useLook } from "../look";
import { SheetBar } from "../SheetBar";
import { AccountOf } from "./AccountOf";
import { Answers } from "./Answers";
import { Compared } from "./Compared";
import { Dials } from "./Dials";
import { Held } from "./Held";
import { NoiseCurve } from "./NoiseCurve";
import { type Region, useAccount } from "./queries";
import { Reflections } from "./Reflections";
import { Roles } from "./Roles";
import { type GaugeActs, TideGauge } from "./TideGauge";
import { useLightKeys } from "./useLightKeys";
import { ALL, useSamples } from "./useSamples";
import { WhereLight } from "./WhereLight";
import { nits, noiseWords, stops, title } from "./words";

/** A frame held against its reference: both under a wipe, the difference part by part, how noisy the reference is. */
export function LightAndColour() {
  const { info, viewpoints, targets, look, query, set } = useLook();
  const region = regionOf(query.get("region"));
  const [wipe, setWipe] = useState(0.5);
  const gauge = useRef<GaugeActs | null>(null);
  useLightKeys({
    viewpoints,
    viewpoint: look.viewpoint,
    look: (v) => set({ from: v, region: null }),
    wipe: (by) => setWipe((w) => Math.min(0.995, Math.max(0.005, w + by))),
    whole: () => set({ region: null }),
    gauge,
  });
  const of = `${look.viewpoint} ${look.target} ${look.stamp} ${look.state}`;
  const [last, setLast] = useState<ReturnType<typeof useAccount>["data"]>();
  const known = last?.viewpoint === look.viewpoint ? last : undefined;
  const grown = useSamples(of, known);
  const found = useAccount(look, grown.samples, region);
  const account = found.data?.viewpoint === look.viewpoint ? found.data : undefined;
  if (account && !found.isPlaceholderData && account !== last) setLast(account);
  useTitleBlock(account ? { viewpoint: account.viewpoint, compared: account.size.join(" x ") } : {});
  return (
    <Page>
      <SheetBar
        {...{ look, viewpoints, targets, set }}
        ofViewpoint={["region"]}
        title={account ? title(account) : "Light and colour"}
        second={
          account && (
            <>
              drawn {nits(account.standin)}, due {nits(account.reference)} · {stops(account.stops)} ·{" "}
              {figure(account.pixels)} px{account.region ? " of a region" : ""}
              {look.state === "built" ? " · as it came in" : ""}
            </>
          )
        }
      />
      <Failed error={found.error ?? info.error} />
      {!account && found.isPending && !found.error && !info.error && <Skeleton lines={9} />}
      {info.data && viewpoints.length === 0 && (
        <Empty title="Nothing to look from">The build has no viewpoints. Add one in Set-up.</Empty>
      )}
      {account && (
        <div className="grid grid-cols-[minmax(0,1.5fr)_minmax(360px,1fr)] gap-6 mt-3 items-start">
          <div className="min-w-0">
            <Compared
              {...{ look, wipe, setWipe, region }}
              samples={account.noise.samples}
              mark={(r) => set({ region: r === null ? null : r.join(",") })}
            />
            <section aria-label="Noise" className="mt-4">
              <div className="flex items-baseline gap-3">
                <h2>How good is the reference?</h2>
                {(grown.growing || account.noise.samples < ALL) && (
                  <button
                    type="button"
                    className="btn btn-sm ml-auto"
                    onClick={grown.growing ? grown.stop : grown.goOn}
                  >
                    {grown.growing ? "Stop here" : "Four times the samples"}
                  </button>
                )}
              </div>
              <p className="second" role="status">
                {noiseWords(account)}
                {grown.growing && " · more are followed"}
              </p>
              <NoiseCurve noise={account.noise} />
              {account.region && (
                <p className="second">Line: the whole frame. Square: the region, and its forecast.</p>
              )}
            </section>
          </div>
          <div className="min-w-0">
            <AccountOf account={account} />
            <WhereLight look={look} region={region} />
            <Dials look={look} />
            <Reflections look={look} />
            <Answers look={look} />
            <Roles look={look} region={region} />
            <Held look={look} />
          </div>
        </div>
      )}
      {account && (
        <TideGauge
          {...{ look, region, wipe }}
          move={query.get("move")}
          setMove={(move) => set({ move })}
          acts={gauge}
        />
      )}
    </Page>
  );
}

function regionOf(text: string | null): Region | null {
  const parts = (text ?? "").split(",").map(Number);
  return parts.length === 4 && parts.every((p) => Number.isInteger(p) && p >= 0) ? (parts as Region) : null;
}
