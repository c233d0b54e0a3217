import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { client, type Job, must } from "../api/client";
import { useJobs } from "../api/queries";
import { useWrite } from "../api/writes";
import { Bar } from "../ui/JobBar";

const live = (j: Job) => j.state === "running" || j.state === "waiting";

/** Running jobs as a tag; opens the list with progress and cancel. */
export function Jobs({ project }: { project: number }) {
  const jobs = useJobs(project);
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const running = (jobs.data ?? []).filter(live);
  const before = useRef(0);
  useEffect(() => {
    if (running.length < before.current) queries.invalidateQueries();
    before.current = running.length;
  }, [running.length, queries]);
  const first = running[0];
  const text = first ? `${first.about} · ${Math.round(first.progress * 100)} %` : "no jobs running";
  return (
    <div className="relative">
      <button
        type="button"
        className="num border border-base-300 bg-base-200 px-2 py-1"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {text}
        {running.length > 1 ? ` +${running.length - 1}` : ""}
      </button>
      {open && (
        <section
          aria-label="Jobs"
          className="absolute right-0 top-9 z-20 w-[420px] bg-base-100 border border-base-content p-3 max-h-[60vh] overflow-auto"
          onKeyDown={(e) => e.key === "Escape" && setOpen(false)}
        >
          <h2>Jobs</h2>
          <ul>
            {(jobs.data ?? []).slice(0, 20).map((j) => (
              <Line key={j.id} project={project} job={j} />
            ))}
          </ul>
          {jobs.data?.length === 0 && <p className="second">Nothing has run yet.</p>}
        </section>
      )}
    </div>
  );
}

function Line({ project, job }: { project: number; job: Job }) {
  const cancel = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/jobs/{job_id}/cancel", {
        params: { path: { project_id: project, job_id: job.id } },
      }),
    ),
  );
  return (
    <li className="border-b hair py-2">
      <div className="flex justify-between gap-2">
        <b>{job.about}</b>
        <span className="num">{live(job) ? `${Math.round(job.progress * 100)} %` : job.state}</span>
      </div>
      <div className="second">{job.message}</div>
      {live(job) && (
        <div className="flex gap-3 items-center mt-1">
          <Bar name={job.about} share={job.progress} className="flex-1" />
          <button type="button" className="btn btn-sm" onClick={() => cancel.mutate(undefined)}>
            Cancel
          </button>
        </div>
      )}
    </li>
  );
}
