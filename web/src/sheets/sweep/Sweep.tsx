import { useState } from "react";
import { client, must, type Sweep } from "../../api/client";
import { useBuild } from "../../api/queries";
import { useWrite } from "../../api/writes";
import { JobBar } from "../../ui/JobBar";
import { Legend } from "../../ui/marks";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { usePlace } from "../../ui/place";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { when } from "../../ui/words";
import { Findings } from "./Findings";
import { useSweep, useSweeps } from "./queries";
import { Tide } from "./Tide";
import { Underway } from "./Underway";

export function SweepSheet() {
  const { project, build } = usePlace();
  const sweeps = useSweeps(project, build);
  const info = useBuild(project, build);
  const [target, setTarget] = useState("");
  const done = sweeps.data?.find((s) => s.job.state === "done");
  const last = sweeps.data?.[0];
  const sweep = useSweep(project, build, done?.id);
  const at = { params: { path: { project_id: project, number: build } } };
  const ask = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/sweeps", {
        ...at,
        body: { target: target || null },
      }),
    ),
  );
  const live = last && (last.job.state === "running" || last.job.state === "waiting");
  useTitleBlock(
    sweep.data
      ? { Swept: when(sweep.data.job.ended ?? sweep.data.created), Target: sweep.data.target ?? "none" }
      : {},
  );
  const stale = done && info.data && done.head_version !== info.data.version;
  return (
    <Page>
      <div className="flex items-center gap-4 flex-wrap">
        <h1>{sweep.data ? title(build, sweep.data) : `Build ${build}: not swept yet`}</h1>
        <div className="flex-1" />
        <Legend />
        {(info.data?.targets.length ?? 0) > 0 && (
          <Pick
            label="Target"
            value={target}
            options={[{ value: "", words: "no target" }, ...(info.data?.targets ?? [])]}
            pick={setTarget}
            className="w-36"
          />
        )}
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={live || ask.isPending}
          onClick={() => ask.mutate(undefined)}
        >
          {done ? "Sweep again" : "Sweep"}
        </button>
      </div>
      {stale && (
        <p className="text-accent font-semibold">
          The ledger has changed since this sweep: sweep again to see what is left.
        </p>
      )}
      <Failed error={ask.error ?? sweeps.error} />
      {live && <JobBar name="sweep" job={last.job} className="my-3" />}
      {live && <Underway found={last.underway} />}
      {last?.job.state === "failed" && <Failed error={`The last sweep failed: ${last.job.message}`} />}
      {last?.job.state === "cancelled" && <p className="second">The last sweep was cancelled.</p>}
      {sweeps.isPending || (done && sweep.isPending) ? (
        <Skeleton lines={7} />
      ) : sweep.data ? (
        <>
          <Tide project={project} build={build} sweep={sweep.data} />
          <Findings project={project} build={build} sweep={sweep.data} />
        </>
      ) : (
        !live && (
          <Empty title="Nothing measured yet">
            A sweep looks from every play viewpoint, proves remedies and measures what each defect does to the
            picture. Press Sweep.
          </Empty>
        )
      )}
    </Page>
  );
}

function title(build: number, sweep: Sweep): string {
  const n = sweep.items.length;
  const fresh = sweep.items.filter((f) => f.standing === "new").length;
  const parts = [n === 0 ? "clean" : `${n} defect${n === 1 ? "" : "s"}`];
  if (fresh) parts.push(`${fresh} new`);
  if (sweep.gone.length) parts.push(`${sweep.gone.length} gone`);
  return `Build ${build}: ${parts.join(", ")}`;
}
