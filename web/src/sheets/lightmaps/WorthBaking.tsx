import { useState } from "react";
import { Failed } from "../../ui/state";
import { bytes, figure } from "../../ui/words";
import { useWorth } from "./useLightmap";

const THIN = "\u202f";
const seconds = (s: number) =>
  s < 90 ? `${figure(s)}${THIN}s` : s < 5400 ? `${figure(s / 60)}${THIN}min` : `${figure(s / 3600)}${THIN}h`;

/** What is worth a lightmap, measured by probes before any time is spent. */
export function WorthBaking({ project, build }: { project: number; build: number }) {
  const [asked, setAsked] = useState(false);
  const [all, setAll] = useState(false);
  const worth = useWorth(project, build, asked);
  const found = worth.data;
  const chosen = found?.candidates.filter((c) => !c.why) ?? [];
  const skipped = found?.candidates.filter((c) => c.why) ?? [];
  const shown = all ? (found?.candidates ?? []) : [...chosen.slice(0, 8), ...skipped.slice(0, 4)];
  return (
    <section aria-label="Worth baking">
      <h2 className="flex justify-between">
        Worth baking <span className="num second font-normal">value · triangles · map</span>
      </h2>
      {!asked && (
        <>
          <p className="second my-1">
            Light is gathered at a few probes on every surface: which ones a lightmap would serve, and what
            unwrapping and baking them takes here.
          </p>
          <button type="button" className="btn btn-sm" onClick={() => setAsked(true)}>
            Measure
          </button>
        </>
      )}
      {worth.isFetching && (
        <p role="status" className="second">
          Probing every surface…
        </p>
      )}
      <Failed error={worth.error} />
      {found && (
        <>
          <ul>
            {shown.map((c) => (
              <li
                key={c.node}
                className="grid grid-cols-[1fr_44px_62px_50px] gap-2 border-b hair py-1 items-baseline"
              >
                <span className="min-w-0">
                  <b className="block truncate">{c.node}</b>
                  {c.why && <span className="second block text-[11px] leading-tight">{c.why}</span>}
                </span>
                <span className="num text-right">{c.value.toFixed(2)}</span>
                <span className="num text-right second">{figure(c.triangles)}</span>
                <span className={`num text-right ${c.why ? "second" : ""}`}>
                  {c.why ? "skip" : `${c.resolution}²`}
                </span>
              </li>
            ))}
          </ul>
          {found.candidates.length > shown.length && (
            <button type="button" className="underline mt-1" onClick={() => setAll(true)}>
              Show all {found.candidates.length}
            </button>
          )}
          <p className="second mt-2">
            Unwrapping all takes {seconds(found.unwrap_all_s)} here, the {chosen.length} chosen{" "}
            {seconds(found.unwrap_chosen_s)}; baking those {seconds(chosen.reduce((t, c) => t + c.bake_s, 0))}{" "}
            (predictions from rates measured now). Their maps:{" "}
            {Object.entries(found.memory_bytes)
              .map(([name, n]) => `${name} ${bytes(n)}`)
              .join(", ")}
            .
          </p>
        </>
      )}
    </section>
  );
}
