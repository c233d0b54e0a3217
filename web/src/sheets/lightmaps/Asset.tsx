import { type ReactNode, useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { ChartReport } from "../../api/client";
import { assetPath, type LightmapAsset, type Lightmaps } from "../../api/client";
import { useBuild } from "../../api/queries";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { usePlace } from "../../ui/place";
import { Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { WhatToDo } from "../sweep/WhatToDo";
import { BakeBox } from "./BakeBox";
import { ChartList } from "./ChartList";
import { ChartPage } from "./ChartPage";
import { densitiesOf, type Mode } from "./draw";
import { FrameTie } from "./FrameTie";
import { blockOf } from "./Lightmaps";
import type { Spot } from "./overlay";
import { type Page as Drawn, decoded } from "./page";
import { useLightmaps } from "./queries";
import { Copies, Repairs, useRepairs, type WhatIf } from "./Repairs";
import { readout } from "./readout";
import { Tried } from "./Tried";
import { type TargetChoice, TargetPick, useTarget } from "./target";
import { useBeforeKey } from "./useBeforeKey";
import { type Showing, useLeaks, useMap, usePage, useWhy, type Where } from "./useLightmap";
import { BeforeButton, ModeBar, ViewBar } from "./ViewBar";
import { Why } from "./Why";
import { assetLink, setName, troubles } from "./words";

/** The chart page of one asset, tied to the frame and to why each texel is as it is. */
export function Asset() {
  const { project, build } = usePlace();
  const { asset = "" } = useParams();
  const target = useTarget();
  const sheet = useLightmaps(project, build, target.value);
  const line = sheet.data?.assets.find((a) => a.asset === asset);
  useTitleBlock(sheet.data ? { Asset: asset, ...blockOf(sheet.data) } : {});
  if (sheet.data && !line)
    return (
      <Page>
        <h1>{asset}</h1>
        <Failed error={`No lightmapped asset is called ${asset}.`}>
          <Link className="underline block" to={`/p/${project}/b/${build}/lightmaps`}>
            All lightmaps
          </Link>
        </Failed>
      </Page>
    );
  if (!sheet.data || !line)
    return (
      <Page>
        <h1>{asset}</h1>
        <Failed error={sheet.error} />
        <Skeleton lines={9} />
      </Page>
    );
  return <Sheet key={asset} sheet={sheet.data} line={line} project={project} build={build} target={target} />;
}

const PLAIN: Showing = { filter: "nearest", denoise: "", encoding: "", brighter: 0, state: "head" };

type SheetOf = {
  sheet: Lightmaps;
  line: LightmapAsset;
  project: number;
  build: number;
  target: TargetChoice;
};

function Sheet({ sheet, line, project, build, target }: SheetOf) {
  const where: Where = { project, build, asset: line.asset, target: target.value };
  const [query, setQuery] = useSearchParams();
  const go = useNavigate();
  const info = useBuild(project, build);
  const stamp = String(info.data?.version ?? 0);
  const lightSet = query.get("set") ?? sheet.light_sets[0] ?? null;
  const mode = (query.get("view") as Mode | null) ?? "charts";
  const texel = texelOf(query.get("texel"), line.resolution);
  const viewpoint = query.get("from") ?? firstView(sheet, line, lightSet);
  const [showing, setShowing] = useState(PLAIN);
  const [hover, setHover] = useState<Spot | null>(null);
  const [tied, setTied] = useState<{ u: number; v: number } | null>(null);
  const [whatIf, setWhatIf] = useState<WhatIf | null>(null);
  useBeforeKey((held) => setShowing((s) => ({ ...s, state: held ? "built" : "head" })));
  const set = (values: Record<string, string>) => {
    const next = new URLSearchParams(query);
    for (const [k, v] of Object.entries(values)) next.set(k, v);
    setQuery(next, { replace: true });
  };
  const page = usePage(where, showing.state);
  const baked = line.maps.find((m) => m.light_set === lightSet)?.state !== "missing";
  const leaks = useLeaks(where, lightSet, baked && !whatIf && showing.state === "head", stamp);
  const map = useMap(where, lightSet, showing, line.resolution, mode === "bake" && baked, stamp);
  const why = useWhy(where, lightSet, texel, stamp);
  const acts = useRepairs(where, setWhatIf);
  const shown = useShown(page, whatIf);
  const wrong = troubles(line, leaks.data);
  const first = why.data && !why.data.healthy ? why.data.effects[0]?.code : undefined;
  return (
    <main className="px-[22px] pt-[14px] pb-4 h-full min-h-[640px] grid grid-rows-[auto_minmax(0,1fr)] gap-3">
      <Bar
        sheet={sheet}
        line={line}
        project={project}
        build={build}
        wrong={wrong}
        lightSet={lightSet}
        set={set}
      >
        <TargetPick of={target} targets={sheet.memory} />
        <BeforeButton state={showing.state} show={(state) => setShowing({ ...showing, state })} />
        <ModeBar mode={mode} choose={(m) => set({ view: m })} />
      </Bar>
      <div className="grid grid-cols-[minmax(300px,1.75fr)_minmax(250px,1fr)_minmax(270px,1fr)] gap-5 min-h-0">
        <div className="grid grid-rows-[minmax(0,1fr)_auto] gap-2 min-h-0 min-w-0">
          {shown ? (
            <ChartPage
              drawn={{
                page: shown.arrays,
                report: shown.report,
                mode,
                map: whatIf ? null : (map.data?.bitmap ?? null),
                leaks: whatIf ? [] : (leaks.data ?? []),
                densities: densitiesOf(shown.report),
              }}
              texel={texel}
              tied={tied}
              label={`Chart page of ${line.asset}, ${line.resolution} by ${line.resolution} texels: arrows move a texel, Enter asks about it`}
              onHover={setHover}
              onPick={(t) => set({ texel: t.join(",") })}
            />
          ) : (
            <div>
              <Failed error={page.error} />
              <Skeleton lines={9} />
            </div>
          )}
          <div>
            {whatIf ? (
              <Tried
                whatIf={whatIf}
                was={page.data?.report}
                keep={() => acts.keep(whatIf.change)}
                back={() => setWhatIf(null)}
              />
            ) : (
              <ViewBar
                mode={mode}
                showing={showing}
                show={(s) => setShowing({ ...showing, ...s })}
                white={map.data?.lux}
                densities={shown ? densitiesOf(shown.report) : [0, 1]}
                download={`${assetPath(project, build, line.asset)}/map.exr${lightSet ? `?light_set=${encodeURIComponent(lightSet)}` : ""}`}
              />
            )}
            <Failed error={mode === "bake" ? map.error : null} />
            {mode === "bake" && !baked && <p className="second">Not baked for {setName(lightSet)} yet.</p>}
            <p className="num second mt-1" data-testid="readout">
              {readout(
                shown?.report,
                hover ?? (tied && shown ? { ...tied, chart: chartUnder(shown.arrays, tied) } : null),
              )}
            </p>
          </div>
        </div>
        <div className="min-h-0 overflow-y-auto grid gap-5 content-start pr-1">
          <FrameTie
            project={project}
            build={build}
            stamp={stamp}
            state={showing.state}
            viewpoint={viewpoint}
            viewpoints={sheet.viewpoints.map((v) => v.viewpoint)}
            setViewpoint={(v) =>
              set({
                from: v,
                set: sheet.viewpoints.find((s) => s.viewpoint === v)?.light_set ?? lightSet ?? "",
              })
            }
            asset={line.asset}
            page={page.arrays}
            edge={line.resolution}
            hover={hover}
            texel={texel}
            onTied={setTied}
            onPick={(name, at) => {
              if (name === line.asset)
                set({ texel: `${Math.floor(at.u * line.resolution)},${Math.floor(at.v * line.resolution)}` });
              else {
                const edge = sheet.assets.find((a) => a.asset === name)?.resolution ?? 1;
                const place = `${Math.floor(at.u * edge)},${Math.floor(at.v * edge)}`;
                go(
                  `${assetLink(project, build, name)}?${new URLSearchParams({ ...Object.fromEntries(query), texel: place })}`,
                );
              }
            }}
          />
          {line.copies && <Copies where={where} acts={acts} chosen={whatIf} />}
          <Repairs mesh={line.mesh} acts={acts} />
          {page.data && <ChartList report={page.data.report} />}
        </div>
        <div className="min-h-0 overflow-y-auto grid gap-5 content-start pr-1">
          <Why
            found={why.data}
            texel={texel}
            pending={why.isFetching && !why.data}
            error={why.error}
            ask={(t) => set({ texel: t.join(",") })}
          />
          <WhatToDo project={project} build={build} drawables={line.drawables} cause={first} />
          <section>
            <h2 className="mb-1">Bake</h2>
            <BakeBox project={project} build={build} sheet={sheet} assets={[line.asset]} list />
          </section>
        </div>
      </div>
    </main>
  );
}

type BarOf = Omit<SheetOf, "target"> & {
  wrong: { words: string }[];
  lightSet: string | null;
  set: (values: Record<string, string>) => void;
  children: ReactNode;
};

/** What is wrong with the asset, and what the sheet shows of it. */
function Bar({ sheet, line, project, build, wrong, lightSet, set, children }: BarOf) {
  return (
    <div className="flex items-end gap-3 flex-wrap">
      <div className="mr-auto min-w-0">
        <h1>
          {line.asset}: {wrong[0]?.words ?? "its charts are fit"}
        </h1>
        <p className="second">
          <Link className="underline" to={`/p/${project}/b/${build}/lightmaps`}>
            All lightmaps
          </Link>{" "}
          ·{" "}
          {wrong.length > 1
            ? wrong
                .slice(1, 4)
                .map((w) => w.words)
                .join("; ")
            : `mesh ${line.mesh}, ${line.charts} chart${line.charts === 1 ? "" : "s"}`}
        </p>
      </div>
      {sheet.light_sets.length > 1 && (
        <Pick
          label="Light set"
          value={lightSet ?? ""}
          options={sheet.light_sets.map((s) => ({ value: s ?? "", words: setName(s) }))}
          pick={(value) => set({ set: value })}
          className="w-36"
        />
      )}
      {children}
    </div>
  );
}

function texelOf(text: string | null, edge: number): [number, number] | null {
  const at = (text ?? "").split(",").map(Number);
  return at.length === 2 && at.every((v) => Number.isInteger(v) && v >= 0 && v < edge)
    ? (at as [number, number])
    : null;
}

/** The viewpoint that shows most of an asset, one in the light set looked at if any shows it. */
function firstView(sheet: Lightmaps, line: LightmapAsset, lightSet: string | null): string {
  const of = (v: string) => line.seen[v] ?? 0;
  const views = sheet.viewpoints.toSorted(
    (a, b) =>
      Number(of(b.viewpoint) > 0 && b.light_set === lightSet) -
        Number(of(a.viewpoint) > 0 && a.light_set === lightSet) || of(b.viewpoint) - of(a.viewpoint),
  );
  return views[0]?.viewpoint ?? "";
}

function useShown(
  page: ReturnType<typeof usePage>,
  whatIf: WhatIf | null,
): { arrays: Drawn; report: ChartReport } | null {
  return useMemo(() => {
    if (whatIf) return { arrays: decoded(whatIf.answer.geometry), report: whatIf.answer.report };
    return page.data && page.arrays ? { arrays: page.arrays, report: page.data.report } : null;
  }, [page.data, page.arrays, whatIf]);
}

function chartUnder(page: Drawn, at: { u: number; v: number }): number {
  const t = page.index.at(at.u, at.v);
  return t < 0 ? -1 : (page.chart[t] as number);
}
