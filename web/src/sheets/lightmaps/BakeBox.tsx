import { Link } from "react-router";
import { client, type Lightmaps, must } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Bar } from "../../ui/JobBar";
import { Failed } from "../../ui/state";
import { figure } from "../../ui/words";
import { useBakes } from "./queries";
import { assetLink, openMaps, setName } from "./words";

type Props = { project: number; build: number; sheet: Lightmaps; assets?: string[]; list?: boolean };

/** What is stale or missing, the button that bakes it, and the bake that runs: receiver by receiver, with cancel. */
export function BakeBox({ project, build, sheet, assets, list = false }: Props) {
  const bakes = useBakes(project, build);
  const at = { params: { path: { project_id: project, number: build } } };
  const ask = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/bakes", {
        ...at,
        body: { assets: assets ?? null, light_sets: null },
      }),
    ),
  );
  const last = bakes.data?.[0];
  const live = last && ["running", "waiting"].includes(last.job.state) ? last : undefined;
  const cancel = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/jobs/{job_id}/cancel", {
        params: { path: { project_id: project, job_id: live?.job.id ?? 0 } },
      }),
    ),
  );
  const open = openMaps(sheet.assets.filter((a) => !assets || assets.includes(a.asset)));
  const stale = open.filter((m) => m.state === "stale").length;
  const count = (n: number, what: string) => (n ? `${n} ${what}` : "");
  const words = [count(stale, "stale"), count(open.length - stale, "missing")].filter(Boolean).join(", ");
  return (
    <section aria-label="Bake">
      {open.length > 0 && !live && (
        <div className="flex items-center gap-3 flex-wrap">
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={ask.isPending}
            onClick={() => ask.mutate(undefined)}
          >
            Bake {open.length === 1 ? "one lightmap" : `${open.length} lightmaps`}
          </button>
          <span className="second">{words}</span>
        </div>
      )}
      {open.length === 0 && !live && (
        <p className="text-success">✓ {assets ? "Its lightmaps fit" : "Every lightmap fits"} the build.</p>
      )}
      {live && (
        <div role="status">
          <div className="flex justify-between gap-2">
            <b>{live.job.message || "waiting"}</b>
            <span className="num">
              {live.done.length} of {live.wanted.length}
            </span>
          </div>
          <div className="flex gap-3 items-center mt-1">
            <Bar name="bake" share={live.job.progress} className="flex-1" />
            <button type="button" className="btn btn-sm" onClick={() => cancel.mutate(undefined)}>
              Cancel
            </button>
          </div>
        </div>
      )}
      {!live && last && (
        <p className="second mt-1">
          Last bake {last.job.state === "done" ? "" : `${last.job.state}: `}
          {last.job.message}.
        </p>
      )}
      {list && (live || open.length > 0) && <Maps project={project} build={build} live={live} open={open} />}
      <Failed error={ask.error ?? cancel.error} />
    </section>
  );
}

type Row = { asset: string; light_set: string | null; state: string; why?: string[]; stale_texels?: number };

function Maps({
  project,
  build,
  live,
  open,
}: {
  project: number;
  build: number;
  live?: { wanted: (string | null)[][]; done: (string | null)[][]; job: { message: string } };
  open: Row[];
}) {
  const done = new Set((live?.done ?? []).map(String));
  const rows: Row[] = live
    ? live.wanted.map(([name, light_set = null]) => {
        const asset = name ?? "";
        const baking = live.job.message === `baking ${asset}${light_set ? `, ${light_set}` : ""}`;
        return {
          asset,
          light_set,
          state: done.has(String([asset, light_set])) ? "✓ baked" : baking ? "baking" : "waits",
        };
      })
    : open;
  return (
    <ul
      className="mt-2 max-h-[220px] overflow-y-auto"
      aria-label={live ? "Lightmaps of this bake" : "Stale and missing lightmaps"}
    >
      {rows.map((r) => (
        <li key={`${r.asset} ${r.light_set}`} className="border-b hair py-[3px]">
          <div className="flex justify-between gap-2">
            <span>
              <Link className="underline" to={assetLink(project, build, r.asset)}>
                {r.asset}
              </Link>{" "}
              <span className="second">{setName(r.light_set)}</span>
            </span>
            <span
              className={`num ${r.state === "stale" ? "text-accent" : r.state === "✓ baked" ? "text-success" : "second"}`}
            >
              {r.state}
              {r.stale_texels ? ` ${figure(r.stale_texels)} texels` : ""}
            </span>
          </div>
          {r.why && r.why.length > 0 && (
            <div className="second text-[11px] leading-tight">{r.why.join("; ")}</div>
          )}
        </li>
      ))}
    </ul>
  );
}
