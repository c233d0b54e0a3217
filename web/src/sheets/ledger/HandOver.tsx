import { buildPath, client, must } from "../../api/client";
import { useWrite } from "../../api/writes";
import { JobBar } from "../../ui/JobBar";
import { Failed } from "../../ui/state";
import { bytes } from "../../ui/words";
import { usePackages } from "./queries";

/** One ZIP: patch, repaired scene and settings, changes, HTML sheet, SARIF. */
export function HandOver({ project, build, kept }: { project: number; build: number; kept: number }) {
  const packages = usePackages(project, build);
  const ask = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/hand-over", {
        params: { path: { project_id: project, number: build } },
      }),
    ),
  );
  const last = packages.data?.[0];
  const live = last && (last.job.state === "running" || last.job.state === "waiting");
  return (
    <section>
      <h2>Hand over</h2>
      <p className="second mt-1">
        JSON Patch, repaired scene and settings, the change file, an HTML sheet with pictures, and SARIF for a
        build pipeline. It is swept before and after, so it takes two sweeps.
      </p>
      <button
        type="button"
        className="btn btn-sm btn-primary mt-2"
        disabled={kept === 0 || live || ask.isPending}
        onClick={() => ask.mutate(undefined)}
      >
        Write the hand over
      </button>
      {kept === 0 && <p className="second">Keep a change first.</p>}
      <Failed error={ask.error} />
      {live && <JobBar name="hand over" job={last.job} className="mt-2" />}
      {last?.job.state === "failed" && <Failed error={last.job.message} />}
      {last?.job.state === "done" && last.size !== null && (
        <p className="mt-2">
          <a className="btn btn-sm" href={`${buildPath(project, build)}/hand-over/${last.id}`} download>
            Download the ZIP ({bytes(last.size)})
          </a>
          {!last.fresh && <span className="text-accent ml-2">older than the ledger: write it again</span>}
        </p>
      )}
    </section>
  );
}
