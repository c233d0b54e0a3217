import { useEffect, useState } from "react";
import { type Build, buildPath, csrf, Refusal } from "../../api/client";
import { useKeep, useWrite } from "../../api/writes";
import { Pick } from "../../ui/Pick";
import { Picture } from "../../ui/Picture";
import { Failed } from "../../ui/state";
import { figure } from "../../ui/words";

/** A first frame from each viewpoint, at a moment of a clip if there are any; each may have the user's own capture to wipe against. */
export function FirstFrames({ project, build }: { project: number; build: Build }) {
  const clips = build.facts.clips ?? [];
  const [moment, setMoment] = useState<Moment>(AT_REST);
  const [variant, setVariant] = useState("");
  const [levels, setLevels] = useState(false);
  return (
    <>
      {(build.facts.variants ?? []).length > 0 && (
        <Variants project={project} build={build} variant={variant} pick={setVariant} />
      )}
      {clips.length > 0 && <Player clips={clips} onMoment={setMoment} />}
      {(build.facts.levels ?? []).length > 0 && (
        <label className="flex gap-2 items-center mt-3 w-fit">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={levels}
            onChange={(e) => setLevels(e.target.checked)}
          />
          Each thing at the level of detail that is due from there, not at its finest
        </label>
      )}
      <Frames project={project} build={build} moment={moment} variant={variant} levels={levels} />
    </>
  );
}

type Moment = { clip: string; t: number };
const AT_REST: Moment = { clip: "", t: 0 };
const SETTLED_MS = 200; // after which a moment that one drags over is drawn

function Player({
  clips,
  onMoment,
}: {
  clips: NonNullable<Build["facts"]["clips"]>;
  onMoment: (moment: Moment) => void;
}) {
  const [at, setAt] = useState<Moment>(AT_REST);
  const clip = clips.find((c) => c.name === at.clip);
  useEffect(() => {
    const settled = setTimeout(() => onMoment(at), SETTLED_MS);
    return () => clearTimeout(settled);
  }, [at, onMoment]);
  return (
    <div className="flex gap-4 items-start mt-3">
      <label className="flex flex-col gap-1">
        <span className="second">Clip</span>
        <select
          className="select select-sm w-44"
          value={at.clip}
          onChange={(e) => setAt({ clip: e.target.value, t: 0 })}
        >
          <option value="">at rest</option>
          {clips.map((c) => (
            <option key={c.name} value={c.name}>
              {c.name}
            </option>
          ))}
        </select>
      </label>
      {clip && (
        <label className="flex flex-col gap-3 grow max-w-md">
          <span className="second">
            Moment <span className="num">{at.t.toFixed(2)} s</span> of {figure(clip.ends_s)} s
          </span>
          <input
            type="range"
            className="range range-xs w-full"
            min={0}
            max={clip.ends_s}
            step={clip.ends_s / 100 || 0.01}
            value={at.t}
            onChange={(e) => setAt({ clip: at.clip, t: Number(e.target.value) })}
          />
        </label>
      )}
    </div>
  );
}

/** A variant of the scene's materials, to be looked at, and to be kept. */
function Variants({
  project,
  build,
  variant,
  pick,
}: {
  project: number;
  build: Build;
  variant: string;
  pick: (variant: string) => void;
}) {
  const keep = useKeep(project, build.number);
  return (
    <div className="flex gap-3 items-end mt-3">
      <Pick
        label="Variant"
        above
        className="w-44"
        value={variant}
        options={[{ value: "", words: "as it is" }, ...(build.facts.variants ?? [])]}
        pick={pick}
      />
      {variant && (
        <button
          type="button"
          className="btn btn-sm"
          disabled={keep.isPending}
          onClick={() =>
            keep.mutate({
              change: {
                id: `variant ${variant}`,
                title: `variant ${variant}`,
                scope: "project",
                operation: { name: "scene.variant", params: { variant } },
              },
              evidence: { from: "intake" },
              reason: "",
            })
          }
        >
          Keep {variant}
        </button>
      )}
      {keep.isSuccess && <span className="second">It is in the ledger.</span>}
      <Failed error={keep.error} />
    </div>
  );
}

function Frames({
  project,
  build,
  moment,
  variant,
  levels,
}: {
  project: number;
  build: Build;
  moment: Moment;
  variant: string;
  levels: boolean;
}) {
  return (
    <ul className="grid gap-3 grid-cols-2 xl:grid-cols-3 mt-3">
      {build.viewpoints.map((view) => (
        <First
          key={view.key as string}
          project={project}
          build={build}
          view={view as { key: string; role: string; capture: boolean }}
          moment={moment}
          variant={variant}
          levels={levels}
        />
      ))}
    </ul>
  );
}

function First({
  project,
  build,
  view,
  moment,
  variant,
  levels,
}: {
  project: number;
  build: Build;
  view: { key: string; role: string; capture: boolean };
  moment: Moment;
  variant: string;
  levels: boolean;
}) {
  const path = `${buildPath(project, build.number)}/frames/${encodeURIComponent(view.key)}`;
  const posed = moment.clip ? `&clip=${encodeURIComponent(moment.clip)}&time_s=${moment.t}` : "";
  const dressed = variant ? `${posed}&variant=${encodeURIComponent(variant)}` : posed;
  const asked = levels ? `${dressed}&levels=true` : dressed;
  const put = useWrite(async (file: File) => {
    const form = new FormData();
    form.append("picture", file);
    const answer = await fetch(
      `${buildPath(project, build.number)}/captures/${encodeURIComponent(view.key)}`,
      {
        method: "POST",
        body: form,
        headers: { "X-CSRFToken": csrf() },
      },
    );
    if (!answer.ok) throw new Refusal(answer.status, (await answer.json()).detail);
  });
  return (
    <li className="bg-base-100 border border-base-300">
      <div className="stage aspect-video">
        <Picture
          className="w-full h-full object-contain"
          src={`${path}?width=480&height=270&state=built${asked}`}
          alt={`frame of ${view.key}`}
        />
      </div>
      <div className="px-2 py-1 flex justify-between gap-2 items-center">
        <b className="truncate">{view.key}</b>
        <span className="second">{view.role}</span>
        <label className="btn btn-xs">
          {view.capture ? "Replace capture" : "Add capture"}
          <input
            type="file"
            accept="image/png,image/jpeg"
            className="sr-only"
            aria-label={`capture of ${view.key}`}
            onChange={(e) => e.target.files?.[0] && put.mutate(e.target.files[0])}
          />
        </label>
      </div>
      <Failed error={put.error} />
    </li>
  );
}
