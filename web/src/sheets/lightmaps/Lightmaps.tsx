import { useState } from "react";
import { Link } from "react-router";
import type { LightmapAsset, Lightmaps as Sheet } from "../../api/client";
import { Page } from "../../ui/Page";
import { usePlace } from "../../ui/place";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { bytes, figure, percent } from "../../ui/words";
import { BakeBox } from "./BakeBox";
import { useLightmaps } from "./queries";
import { TargetPick, useTarget } from "./target";
import { WorthBaking } from "./WorthBaking";
import { assetLink, openMaps, setName, troubles } from "./words";

/** All lightmaps of a build: what their charts measure, which are stale, what baking them takes. */
export function Lightmaps() {
  const { project, build } = usePlace();
  const target = useTarget();
  const sheet = useLightmaps(project, build, target.value);
  const [find, setFind] = useState("");
  const data = sheet.data;
  useTitleBlock(data ? blockOf(data) : {});
  if (!data)
    return (
      <Page>
        <h1>Lightmaps</h1>
        <Failed error={sheet.error} />
        {sheet.isPending && <Skeleton lines={9} />}
      </Page>
    );
  const rows = data.assets
    .filter((a) => `${a.asset} ${a.mesh}`.toLowerCase().includes(find.toLowerCase()))
    .map((a) => ({ asset: a, wrong: troubles(a) }))
    .sort((x, y) => (y.wrong[0]?.weight ?? 0) - (x.wrong[0]?.weight ?? 0));
  return (
    <Page className="grid grid-cols-[minmax(0,1fr)_330px] gap-6 items-start">
      <div className="min-w-0">
        <div className="flex items-end gap-4">
          <div className="mr-auto">
            <h1>{title(data)}</h1>
            <p className="second">{memory(data)}</p>
          </div>
          <TargetPick of={target} targets={data.memory} />
          <label className="flex flex-col gap-1">
            Find
            <input
              data-find
              className="input input-sm w-44"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
          </label>
        </div>
        {data.assets.length === 0 ? (
          <div className="mt-4">
            <Empty title="Nothing has a lightmap here">
              Give a mesh a TEXCOORD_1, or say in the setup's meshes which UV set its lightmap uses. What
              would be worth it is told at the right.
            </Empty>
          </div>
        ) : (
          <Table rows={rows} project={project} build={build} sets={data.light_sets} />
        )}
      </div>
      <aside className="grid gap-6">
        {data.assets.length > 0 && (
          <div>
            <h2 className="mb-2">Bake</h2>
            <BakeBox project={project} build={build} sheet={data} list />
          </div>
        )}
        <WorthBaking project={project} build={build} />
      </aside>
    </Page>
  );
}

function title(sheet: Sheet): string {
  const n = sheet.assets.length;
  if (n === 0) return "No lightmaps";
  const open = openMaps(sheet.assets);
  const stale = new Set(open.filter((m) => m.state === "stale").map((m) => m.asset)).size;
  const missing = new Set(open.filter((m) => m.state === "missing").map((m) => m.asset)).size;
  const said = [stale ? `${stale} stale` : "", missing ? `${missing} not baked` : ""]
    .filter(Boolean)
    .join(", ");
  return `${n === 1 ? "One lightmapped asset" : `${n} lightmapped assets`}: ${said || "all baked and fresh"}`;
}

const memory = (sheet: Sheet) =>
  `Memory of all maps${sheet.light_sets.length > 1 ? ` in ${sheet.light_sets.length} light sets` : ""}: ${sheet.memory
    .map((m) => `${m.target ?? "project"} ${bytes(m.bytes)}`)
    .join(" · ")}`;

export function blockOf(sheet: Sheet): Record<string, string> {
  const maps = sheet.assets.reduce((n, a) => n + a.maps.length, 0);
  const open = openMaps(sheet.assets);
  const stale = open.filter((m) => m.state === "stale").length;
  const missing = open.length - stale;
  const texels = open.reduce((n, m) => n + m.stale_texels, 0);
  const bake = `${stale} stale${texels ? ` (${figure(texels)} texels)` : ""}${missing ? `, ${missing} missing` : ""} of ${maps}`;
  return {
    Bake: bake,
    Memory: sheet.memory.map((m) => `${m.target ? `${m.target} ` : ""}${bytes(m.bytes)}`).join(" · "),
  };
}

type RowOf = { asset: LightmapAsset; wrong: { words: string; weight: number }[] };

function Table({
  rows,
  project,
  build,
  sets,
}: {
  rows: RowOf[];
  project: number;
  build: number;
  sets: (string | null)[];
}) {
  return (
    <table className="sheet-table mt-3">
      <thead>
        <tr>
          <th>Asset</th>
          <th className="text-right!">Texels</th>
          <th className="text-right!">Texels/m</th>
          <th className="text-right!">Shared</th>
          <th className="text-right!">Gutter</th>
          <th>What is wrong</th>
          <th>
            Maps{" "}
            <span className="second font-normal">{sets.length > 1 ? sets.map(setName).join(", ") : ""}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ asset: a, wrong }) => (
          <tr key={a.asset}>
            <td>
              <Link className="underline font-semibold" to={assetLink(project, build, a.asset)}>
                {a.asset}
              </Link>
              {a.copies && <span className="second"> copies</span>}
            </td>
            <td className="num text-right">{a.resolution}²</td>
            <td className="num text-right">{figure(a.page_texels_per_m)}</td>
            <td
              className={`num text-right ${(a.overlap.surface_share as number) > 0 ? "text-error font-bold" : "second"}`}
            >
              {(a.overlap.surface_share as number) > 0 ? percent(a.overlap.surface_share as number, 1) : "0"}
            </td>
            <td className="num text-right whitespace-nowrap">
              {a.gutter_texels === null ? (
                <span className="second">one chart</span>
              ) : (
                a.gutter_texels.toFixed(1)
              )}
              {a.safe_mip !== null && a.safe_mip >= 0 && <span className="second"> mip {a.safe_mip}</span>}
            </td>
            <td>
              {wrong.length === 0 ? (
                <span className="text-success">✓ fit</span>
              ) : (
                <>
                  {wrong[0]?.words}
                  {wrong.length > 1 && <span className="second"> and {wrong.length - 1} more</span>}
                </>
              )}
            </td>
            <td className="whitespace-nowrap">
              {a.maps.map((m) => (
                <StateMark
                  key={String(m.light_set)}
                  state={m.state}
                  title={`${setName(m.light_set)}: ${m.why.join("; ") || m.state}`}
                />
              ))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A map's state by shape and word. */
export function StateMark({ state, title }: { state: string; title: string }) {
  const tone = state === "fresh" ? "text-success" : state === "stale" ? "text-accent" : "second";
  const shape = state === "fresh" ? "●" : state === "stale" ? "◐" : "○";
  return (
    <span className={`num mr-2 ${tone}`} title={title}>
      <span aria-hidden="true">{shape}</span> {state}
    </span>
  );
}
