import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { client, csrf, type Job, must, Refusal } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/writes";
import { Bar } from "../../ui/JobBar";
import { Failed } from "../../ui/state";

/** Send files whole, telling how far they are. */
function send(url: string, form: FormData, told: (share: number) => void): Promise<Job> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", url);
    request.setRequestHeader("X-CSRFToken", csrf());
    request.upload.onprogress = (e) => e.lengthComputable && told(e.loaded / e.total);
    request.onerror = () => reject(new Refusal(0, "The upload broke off: the server does not answer."));
    request.onload = () => {
      let body: Partial<Job> & { detail?: string } = {};
      try {
        body = JSON.parse(request.responseText);
      } catch {
        /* an answer without JSON is told by its status */
      }
      if (request.status === 202) resolve(body as Job);
      else reject(new Refusal(request.status, body.detail ?? `The server answered ${request.status}.`));
    };
    request.send(form);
  });
}

/** Follow the job that reads an upload to its end; returns the build it became. */
async function follow(project: number, job: Job, told: (job: Job) => void): Promise<number> {
  const path = { project_id: project, job_id: job.id };
  for (let now = job; ; ) {
    told(now);
    if (now.state === "done" && now.build !== null) return now.build;
    if (now.state === "failed" || now.state === "cancelled") throw new Refusal(422, now.message);
    await new Promise((resolve) => setTimeout(resolve, 300));
    now = await must(client.GET("/api/projects/{project_id}/jobs/{job_id}", { params: { path } })).catch(
      (e) => {
        if (e instanceof Refusal && e.status >= 400 && e.status < 500) throw e;
        return now; // the server is away for a moment: the job goes on, and is asked for again
      },
    );
  }
}

/** Drop a scene and its settings. */
export function Bring({ project }: { project: number }) {
  const [files, setFiles] = useState<File[]>([]);
  const [share, setShare] = useState(0);
  const [job, setJob] = useState<Job>();
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const queries = useQueryClient();
  const scene = files.find((f) => /\.(glb|gltf|zip)$/i.test(f.name));
  const setup = files.find((f) => /\.json$/i.test(f.name));
  const bring = useWrite(
    async () => {
      const form = new FormData();
      if (scene) form.append("scene", scene);
      if (setup) form.append("setup", setup);
      setShare(0);
      setJob(undefined);
      const begun = await send(`/api/projects/${project}/builds`, form, setShare);
      queries.invalidateQueries({ queryKey: keys.jobs(project) });
      return follow(project, begun, setJob);
    },
    (build) => {
      setFiles([]);
      go(`/p/${project}/b/${build}/intake`);
    },
  );
  return (
    <section>
      <h2>Bring in a build</h2>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: the button inside does the same by keyboard */}
      <div
        className={`mt-1 border border-dashed p-4 ${over ? "border-primary bg-base-100" : "border-base-content"}`}
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          setFiles([...e.dataTransfer.files]);
        }}
      >
        <p className="second">Drop a GLB or ZIP here, and its .setup.json if there is one.</p>
        <input
          ref={input}
          id="files"
          type="file"
          multiple
          accept=".glb,.gltf,.zip,.json"
          className="sr-only"
          aria-label="Scene and settings files"
          onChange={(e) => setFiles([...(e.target.files ?? [])])}
        />
        <button type="button" className="btn btn-sm mt-2" onClick={() => input.current?.click()}>
          Choose files
        </button>
        <ul className="mt-2">
          {scene && <li>scene: {scene.name}</li>}
          {setup && <li>settings: {setup.name}</li>}
        </ul>
      </div>
      <button
        type="button"
        className="btn btn-sm btn-primary mt-2"
        disabled={!scene || bring.isPending}
        onClick={() => bring.mutate(undefined)}
      >
        Bring it in
      </button>
      {bring.isPending && (
        <p role="status" className="mt-2">
          {share < 1 ? `sending, ${Math.round(share * 100)} %` : "reading it"}
          {share >= 1 && job && <span className="second"> {job.message}</span>}
          <Bar name="upload" share={share < 1 ? share : job?.progress} />
        </p>
      )}
      <Failed error={bring.error} />
    </section>
  );
}
