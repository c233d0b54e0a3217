import { useCallback, useState } from "react";
import { buildPath, type Case, casePath } from "../../api/client";
import { useBuild } from "../../api/queries";
import { Failed } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { OfCase } from "../lightmaps/OfCase";
import { reachLink } from "../shadowreach/words";
import { Controls } from "./Controls";
import { CoreLog } from "./CoreLog";
import { Exposure, ExposureContext } from "./exposure";
import { LineUpButtons } from "./LineUpButtons";
import { useSymptoms } from "./queries";
import { Shadows } from "./Shadows";
import { SoundingLine, type StageName } from "./SoundingLine";
import { SpotFields } from "./SpotFields";
import { type Spot, Stage } from "./Stage";
import { type Print, Trials } from "./Trials";
import { useActs } from "./useActs";
import { useBenchKeys } from "./useBenchKeys";
import { useLineUp } from "./useLineUp";
import { Chosen, EvidenceList, KeepAndProve, Kept, Remedies } from "./Verdict";

type Choice = { kind: "trial" | "remedy"; index: number } | null;

const middle = (spot: Spot | null): [number, number] =>
  spot ? [spot[0] + (spot[2] >> 1), spot[1] + (spot[3] >> 1)] : [480, 270];

const STAGE_BEFORE: Record<StageName, StageName> = {
  proof: "fix",
  fix: "trials",
  trials: "suspects",
  suspects: "spot",
  spot: "symptom",
  symptom: "symptom",
};

/** What to do while no trial was run. */
function whatNext(of: Case, scored: boolean): string {
  const aboutLightmaps = of.finding?.document.sheet === "lightmaps";
  if (!scored)
    return `What is seen here is called ${of.symptom}; no score tells yet whether a trial clears it. Keep a remedy and prove it, or choose another symptom above to run a line-up.${aboutLightmaps ? " Why its texels are as they are stands at the right." : ""}`;
  if (aboutLightmaps)
    return "This case is about a lightmap: ask at the right why its texels are as they are, then keep a remedy, bake and prove it. The line-up tries passes and lights all the same.";
  return of.spot
    ? "Run the line-up: every pass and light that wrote the spot is switched off by itself, then the levers that could matter."
    : "Drag a spot over what looks wrong, or type it above.";
}

/** A case on the Bench: line, picture, trials, core sample. */
export function Work({ project, build, of }: { project: number; build: number; of: Case }) {
  const [stage, setStage] = useState<StageName>(of.stage as StageName);
  const [choice, setChoice] = useState<Choice>(of.trials.length ? { kind: "trial", index: 0 } : null);
  const [before, setBefore] = useState(false);
  const [loupe, setLoupe] = useState(false);
  const [exposure] = useState(() => new Exposure());
  const [against, setAgainst] = useState<"before" | "capture">("before");
  const [pixel, setPixel] = useState<[number, number]>(
    () => (of.lineup?.facts as { at?: [number, number] } | undefined)?.at ?? middle(of.spot as Spot | null),
  );
  const info = useBuild(project, build);
  const chooseFirst = useCallback(() => {
    setChoice({ kind: "trial", index: 0 });
    setStage("trials");
  }, []);
  const acts = useActs(project, build, of);
  const lineup = useLineUp(project, build, of.number, chooseFirst);
  const symptoms = useSymptoms();
  const scored = symptoms.data?.find((s) => s.name === of.symptom)?.scored !== "no";
  const views = info.data?.viewpoints ?? [];
  useTitleBlock({
    Viewpoint: of.viewpoint,
    Frame: "960 × 540",
    Target: of.target ?? "none",
    Case: `${of.number}, version ${of.version}`,
  });

  const finding = of.finding?.document;
  const path = casePath(project, build, of.number);
  const prints: Print[] = lineup.progress
    ? lineup.live.map((d) => ({ key: d.title, document: d, picture: null }))
    : of.trials.map((t) => ({
        key: `${t.rank} ${of.version}`,
        document: t.document,
        picture: `${path}/trials/${t.rank}/picture?v=${of.version}`,
      }));
  const trial = choice?.kind === "trial" ? of.trials[choice.index]?.document : undefined;
  const stamp = `${of.version}.${of.build_version}`;
  const right =
    choice && (choice.kind === "remedy" ? finding?.remedies[choice.index] : trial?.change)
      ? {
          label:
            choice.kind === "trial" ? (trial?.title ?? "") : (finding?.remedies[choice.index]?.title ?? ""),
          base: `${path}/frames/${choice.kind}:${choice.index}`,
          stamp,
        }
      : of.kept.length
        ? { label: "As kept", base: `${path}/frames/head`, stamp }
        : null;
  const capture = views.find((v) => v.key === of.viewpoint)?.capture;
  const left =
    against === "capture" && capture
      ? {
          label: "Your capture",
          base: `${buildPath(project, build)}/captures/${encodeURIComponent(of.viewpoint)}`,
          stamp: "",
          fixed: true,
        }
      : { label: "Before", base: `${path}/frames/before`, stamp };
  const pick = (index: number) => {
    if (!lineup.progress) setChoice({ kind: "trial", index });
  };
  const keep = () =>
    choice &&
    acts.keep.mutate(choice.kind === "trial" ? { trial: choice.index } : { remedy: choice.index }, {
      onSuccess: () => setStage("fix"),
    });
  const turn = (step: number) => {
    const i = views.findIndex((v) => v.key === of.viewpoint);
    const next = views[(i + step + views.length) % views.length];
    if (next && next.key !== of.viewpoint) acts.edit.mutate({ viewpoint: next.key });
  };
  useBenchKeys({
    before: setBefore,
    lineUp: () => lineup.run(false),
    keep,
    drop: () => acts.drop.mutate(undefined, { onSuccess: () => setStage("fix") }),
    trial: (step) =>
      prints.length &&
      pick(((choice?.kind === "trial" ? choice.index : -1) + step + prints.length) % prints.length),
    viewpoint: turn,
    loupe: () => setLoupe((v) => !v),
    back: () => setStage((s) => STAGE_BEFORE[s]),
  });
  return (
    <ExposureContext value={exposure}>
      <div className="grid grid-cols-[148px_minmax(0,1fr)_312px] h-full min-h-0">
        <SoundingLine of={of} chosen={stage} choose={setStage} />
        <main className="px-4 py-[14px] grid grid-rows-[auto_auto_minmax(200px,1fr)_auto] gap-[10px] min-h-0 min-w-0">
          <div className="flex items-baseline gap-3 min-w-0">
            <h1 className="truncate">{of.title}</h1>
            <p className="second whitespace-nowrap">
              Case {of.number} · {of.viewpoint}
            </p>
            <LineUpButtons progress={lineup.progress} run={lineup.run} ready={of.spot !== null && scored} />
          </div>
          <Controls
            setBefore={setBefore}
            against={against}
            setAgainst={capture ? setAgainst : undefined}
            loupe={loupe}
            setLoupe={setLoupe}
          >
            <SpotFields of={of} set={(values) => acts.edit.mutate(values)} />
          </Controls>
          <Stage
            left={left}
            right={right}
            before={before}
            spot={of.spot as Spot | null}
            pixel={pixel}
            loupe={loupe}
            mayMark={!lineup.progress}
            onSpot={(spot) => acts.edit.mutate({ spot })}
            onPixel={setPixel}
          />
          <div className="min-w-0">
            <Failed error={acts.error ?? lineup.error} />
            {prints.length > 0 ? (
              <Trials
                prints={prints}
                unit={(of.lineup?.unit as string) ?? ""}
                chosen={choice?.kind === "trial" ? choice.index : null}
                choose={pick}
              />
            ) : (
              <p className="second py-3">{whatNext(of, scored)}</p>
            )}
          </div>
        </main>
        <aside className="border-l border-base-content bg-base-100 px-4 py-[14px] overflow-y-auto">
          <CoreLog base={`${path}/core-sample/before`} stamp={stamp} at={pixel} onAt={setPixel} />
          {of.symptom.includes("shadow") && (
            <Shadows
              base={`${path}/autopsy/before`}
              stamp={stamp}
              at={pixel}
              more={
                finding?.sheet === "shadow-reach"
                  ? reachLink(project, build, finding)
                  : `/p/${project}/b/${build}/shadow-reach?from=${encodeURIComponent(of.viewpoint)}`
              }
            />
          )}
          {trial && <Chosen trial={trial} />}
          <KeepAndProve
            of={of}
            mayKeep={
              choice !== null && (choice.kind === "remedy" || Boolean(trial?.change)) && !acts.keep.isPending
            }
            keep={keep}
            mayProve={!acts.prove.isPending}
            prove={() => acts.prove.mutate(undefined, { onSuccess: () => setStage("proof") })}
          />
          {finding && <OfCase project={project} build={build} finding={finding} />}
          <Kept of={of} project={project} build={build} />
          {finding && (
            <Remedies
              of={finding}
              chosen={choice?.kind === "remedy" ? choice.index : null}
              choose={(index) => setChoice({ kind: "remedy", index })}
            />
          )}
          {finding && <EvidenceList of={finding} />}
        </aside>
      </div>
    </ExposureContext>
  );
}
