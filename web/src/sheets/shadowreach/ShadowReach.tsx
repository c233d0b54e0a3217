import { type ReactNode, useMemo, useState } from "react";
import { buildPath } from "../../api/client";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { bytes, figure } from "../../ui/words";
import { Shadows } from "../bench/Shadows";
import { Leftovers } from "../Leftovers";
import { useLook } from "../look";
import { SheetBar } from "../SheetBar";
import { WhatToDo } from "../sweep/WhatToDo";
import { axisOf, readingAt } from "./axis";
import { BarEnds } from "./BarEnds";
import { Beds } from "./Beds";
import { BiasFront } from "./BiasFront";
import { CuresTable } from "./CuresTable";
import { Fineness } from "./Fineness";
import { FrameMarked } from "./FrameMarked";
import { type Caster, type Look, type Section, useSection } from "./queries";
import { SkySun } from "./SkySun";
import { Spending } from "./Spending";
import { Tables } from "./Tables";
import { useReachKeys } from "./useReachKeys";
import { Walk } from "./Walk";
import { TECHNIQUE, title } from "./words";

const SHOWN = 9; // casters on the drawing; the table has all

/** How far the shadows of a light reach: tiers as beds, casters as bars, why one is lost, and what would cure it. */
export function ShadowReach() {
  const { info, viewpoints, targets, look: place, query, set } = useLook();
  const look: Look = { ...place, light: query.get("light") };
  const section = useSection(look);
  useTitleBlock(section.data ? blockOf(section.data) : {});
  const bar = (
    <SheetBar
      {...{ look, viewpoints, targets, set }}
      ofViewpoint={["at", "caster"]}
      title={section.data ? title(section.data) : "Shadow reach"}
      second={section.data && summary(section.data, look.state)}
      between={
        <Pick
          label="Light"
          above
          value={section.data?.light ?? ""}
          options={section.data?.lights ?? []}
          pick={(v) => set({ light: v, caster: null })}
          className="w-32"
        />
      }
    />
  );
  if (!section.data)
    return (
      <Page>
        {bar}
        <Failed error={section.error ?? info.error} />
        {section.isPending && !section.error && <Skeleton lines={9} />}
        {section.error && look.viewpoint !== "" && <SkySun look={look} />}
      </Page>
    );
  return (
    <Sheet
      key={look.viewpoint + (look.light ?? "")}
      {...{ look, query, set, bar, viewpoints }}
      section={section.data}
    >
      <Failed error={section.error} />
    </Sheet>
  );
}

type SheetOf = {
  look: Look;
  section: Section;
  query: URLSearchParams;
  set: (values: Record<string, string | null>) => void;
  bar: ReactNode;
  viewpoints: string[];
  children: ReactNode;
};

function Sheet({ look, section, query, set, bar, viewpoints, children }: SheetOf) {
  const axis = useMemo(() => axisOf(section, 520), [section]);
  const [cursor, setCursor] = useState<number | null>(null);
  const [asked, setAsked] = useState<string | null>(null);
  // The worst stays chosen when a repair has mended it.
  const worst = section.casters.find((c) => c.lost_at !== null)?.name ?? null;
  const [last, setLast] = useState(worst);
  if (worst !== null && worst !== last) setLast(worst);
  const named = (name: string | null) => section.casters.find((c) => c.name === name);
  const chosen = named(query.get("caster")) ?? named(last) ?? section.casters[0] ?? null;
  const at = pixelOf(query.get("at"));
  const choose = (name: string) => set({ caster: name });
  const drill = (c: Caster | null) => c && set({ at: c.at.join(","), caster: c.name });
  useReachKeys({
    section,
    chosen: chosen?.name ?? null,
    cursor,
    viewpoints,
    viewpoint: look.viewpoint,
    choose,
    move: (m) => setCursor(Math.min(Math.max(m, axis.low), axis.high)),
    autopsy: () => drill(chosen),
    back: () => set({ at: null }),
    look: (v) => set({ from: v, at: null, caster: null }),
  });
  const shown = section.casters.slice(0, SHOWN);
  if (chosen && !shown.includes(chosen)) shown[SHOWN - 1] = chosen;
  return (
    <Page>
      {bar}
      {children}
      <div className="grid grid-cols-[minmax(0,1.9fr)_minmax(300px,1fr)] gap-6 mt-3 items-start">
        <div className="min-w-0">
          {section.casters.length === 0 && section.tiers.length === 0 ? (
            <Empty title="Nothing to draw a section of">
              {section.light} throws no shadow on what {look.viewpoint} shows. Take another viewpoint or
              light.
            </Empty>
          ) : (
            <Beds
              {...{ section, axis, cursor, choose }}
              casters={shown}
              chosen={chosen?.name ?? null}
              move={setCursor}
            />
          )}
          <Reading section={section} cursor={cursor} />
        </div>
        <FrameMarked look={look} section={section} at={at} pick={(p) => set({ at: p.join(",") })} />
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.35fr)_minmax(0,1.1fr)] gap-6 mt-3 items-start">
        {at ? (
          <Shadows
            base={`${buildPath(look.project, look.build)}/autopsy/${encodeURIComponent(look.viewpoint)}`}
            stamp={`${look.stamp} ${look.target ?? ""}`}
            at={at}
          />
        ) : (
          <section aria-label="Test chain">
            <h2>Test chain{chosen ? `: ${chosen.name}` : ""}</h2>
            {chosen ? (
              <>
                <p className="mt-1">
                  <button type="button" className="btn btn-sm" onClick={() => drill(chosen)}>
                    Autopsy of its shadow<kbd>Enter</kbd>
                  </button>
                </p>
                <BarEnds look={look} caster={chosen} light={section.light} />
              </>
            ) : (
              <p className="second">No caster is chosen.</p>
            )}
          </section>
        )}
        {chosen && (
          <CuresTable
            look={look}
            caster={chosen.name}
            technique={section.technique}
            wanted={asked === chosen.name}
            ask={() => setAsked(chosen.name)}
          />
        )}
        <div>
          {chosen && (
            <WhatToDo
              project={look.project}
              build={look.build}
              drawables={[chosen.name]}
              cause={undefined}
              sheet="shadow-reach"
            />
          )}
          <Leftovers look={look} of="shadow" />
        </div>
      </div>
      <SkySun look={look} />
      <BiasFront look={look} light={section.light} technique={section.technique} />
      <Walk look={look} light={section.light} technique={section.technique} />
      <Fineness look={look} light={section.light} />
      <Spending look={look} />
      <Tables section={section} chosen={chosen?.name ?? null} choose={choose} />
    </Page>
  );
}

/** What the distance under the cursor has. */
function Reading({ section, cursor }: { section: Section; cursor: number | null }) {
  if (cursor === null)
    return (
      <p className="second">
        Bars end where a shadow drops out; the tick is where its caster stands. Click along the section, or ←
        →, for a reading.
      </p>
    );
  const { tier, texelPx } = readingAt(section, cursor);
  return (
    <p className="num" aria-live="polite">
      {figure(Number(cursor.toPrecision(3)))} m:{" "}
      {tier && texelPx !== null
        ? `${tier.name}, texel ${figure(Number((tier.texel_m * 1000).toPrecision(3)))} mm, ${figure(Number(texelPx.toPrecision(3)))} px wide${texelPx > 4 ? ": blocky" : ""}`
        : section.tiers.length
          ? "no map serves this"
          : "rays at any distance"}
    </p>
  );
}

const summary = (s: Section, state: string) =>
  [
    `${s.light} by ${TECHNIQUE[s.technique] ?? s.technique}`,
    s.tiers.length ? `${s.tiers.length} tiers` : "",
    s.pages
      ? `${figure(s.pages)} pages${s.coarser ? `, the pool is too small: ${2 ** s.coarser} times coarser` : ""}`
      : "",
    s.reach_by === "range" ? "reach by range to the eye" : "",
    state === "built" ? "as it came in" : "",
  ]
    .filter(Boolean)
    .join(" · ");

const blockOf = (s: Section): Record<string, string> => ({
  Light: s.light,
  Casters: figure(s.casters.length),
  "Shadow memory": bytes(s.cost.bytes),
  Draws: figure(s.cost.draws),
});

function pixelOf(text: string | null): [number, number] | null {
  const [x, y] = (text ?? "").split(",").map(Number);
  return text && Number.isInteger(x) && Number.isInteger(y) ? [x as number, y as number] : null;
}
