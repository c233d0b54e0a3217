import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import {
  buildPath,
  client,
  csrf,
  type Delivery,
  type Job,
  must,
  Refusal,
  type Schemas,
} from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/writes";
import { Bar } from "../../ui/JobBar";
import { Failed } from "../../ui/state";
import { Supplied } from "./Supplied";

const SCENE = /\.(glb|gltf|zip|obj)$/i;
const PICTURE = /\.(png|jpe?g|webp|ktx2)$/i;

/** Send files whole, telling how far they are. */
function send<T>(url: string, form: FormData, told: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", url);
    request.setRequestHeader("X-CSRFToken", csrf());
    request.upload.onprogress = (e) => e.lengthComputable && told(e.loaded / e.total);
    request.onerror = () => reject(new Refusal(0, "The upload broke off: the server does not answer."));
    request.onload = () => {
      let body: { detail?: string } = {};
      try {
        body = JSON.parse(request.responseText);
      } catch {
        /* an answer without JSON is told by its status */
      }
      if (request.status === 202) resolve(body as T);
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

/** Drop a scene and its settings: as a build of its own, or as a new delivery of the one that is looked at. */
export function Bring({ project, build }: { project: number; build?: number }) {
  const [files, setFiles] = useState<File[]>([]);
  const [share, setShare] = useState(0);
  const [job, setJob] = useState<Job>();
  const go = useNavigate();
  const queries = useQueryClient();
  const scene = files.find((f) => SCENE.test(f.name));
  const setup = files.find((f) => /\.json$/i.test(f.name));
  const pictures = scene ? [] : files.filter((f) => PICTURE.test(f.name));
  const form = () => {
    const made = new FormData();
    if (scene) made.append("scene", scene);
    if (setup) made.append("setup", setup);
    return made;
  };
  const bring = useWrite(
    async () => {
      setShare(0);
      setJob(undefined);
      const begun = await send<Job>(`/api/projects/${project}/builds`, form(), setShare);
      queries.invalidateQueries({ queryKey: keys.jobs(project) });
      return follow(project, begun, setJob);
    },
    (made) => {
      setFiles([]);
      go(`/p/${project}/b/${made}/intake`);
    },
  );
  const rehearse = useWrite(
    () => {
      setShare(0);
      return send<Delivery>(`${buildPath(project, build ?? 0)}/deliveries`, form(), setShare);
    },
    (made) => go(`/p/${project}/b/${build}/intake/delivery/${made.id}`),
  );
  const supply = useWrite(
    () => {
      setShare(0);
      setJob(undefined);
      const made = new FormData();
      for (const picture of pictures) made.append("pictures", picture);
      return send<Schemas["SupplyOut"]>(`${buildPath(project, build ?? 0)}/supply`, made, setShare);
    },
    () => setFiles([]),
  );
  const busy = bring.isPending || rehearse.isPending || supply.isPending;
  return (
    <section>
      <h2>Bring in a build</h2>
      <Drop files={files} set={setFiles} />
      <div className="flex flex-wrap gap-2 mt-2">
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={!scene || busy}
          onClick={() => bring.mutate(undefined)}
        >
          Bring it in
        </button>
        {build !== undefined && (
          <button
            type="button"
            className="btn btn-sm"
            disabled={!scene || busy}
            onClick={() => rehearse.mutate(undefined)}
          >
            Rehearse it over build {build}
          </button>
        )}
        {build !== undefined && pictures.length > 0 && (
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={busy}
            onClick={() => supply.mutate(undefined)}
          >
            Find {pictures.length === 1 ? "its place" : `places of ${pictures.length} pictures`}
          </button>
        )}
      </div>
      {build !== undefined && (
        <p className="second mt-1">
          Rehearsed, it shows what becomes of all that is kept on build {build}, before it is taken.
        </p>
      )}
      {busy && (
        <p role="status" className="mt-2">
          {share < 1 ? `sending, ${Math.round(share * 100)} %` : "reading it"}
          {share >= 1 && job && <span className="second"> {job.message}</span>}
          <Bar name="upload" share={share < 1 ? share : job?.progress} />
        </p>
      )}
      <Failed error={bring.error ?? rehearse.error ?? supply.error} />
      {supply.data && build !== undefined && <Supplied told={supply.data} project={project} build={build} />}
    </section>
  );
}

/** Where files are dropped, or chosen. */
function Drop({ files, set }: { files: File[]; set: (files: File[]) => void }) {
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const scene = files.find((f) => SCENE.test(f.name));
  const pictures = scene ? 0 : files.filter((f) => PICTURE.test(f.name)).length;
  const setup = files.find((f) => /\.json$/i.test(f.name));
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the button inside does the same by keyboard
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
        set([...e.dataTransfer.files]);
      }}
    >
      <p className="second">
        Drop a GLB, OBJ, USD or ZIP here, and its .setup.json if there is one; or pictures that are missing.
      </p>
      <input
        ref={input}
        id="files"
        type="file"
        multiple
        accept=".glb,.gltf,.zip,.obj,.usd,.usda,.usdc,.usdz,.json,.png,.jpg,.jpeg,.webp,.ktx2"
        className="sr-only"
        aria-label="Scene and settings files"
        onChange={(e) => set([...(e.target.files ?? [])])}
      />
      <button type="button" className="btn btn-sm mt-2" onClick={() => input.current?.click()}>
        Choose files
      </button>
      <ul className="mt-2">
        {scene && <li>scene: {scene.name}</li>}
        {setup && <li>settings: {setup.name}</li>}
        {pictures > 0 && (
          <li>
            {pictures} {pictures === 1 ? "picture" : "pictures"}
          </li>
        )}
      </ul>
    </div>
  );
}
