import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { type Build, csrf, Refusal } from "../../api/client";
import { useWrite } from "../../api/queries";
import { Failed } from "../../ui/state";

/** Send files whole, telling how far they are. */
function send(url: string, form: FormData, told: (share: number) => void): Promise<Build> {
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
      if (request.status === 201) resolve(body as unknown as Build);
      else reject(new Refusal(request.status, body.detail ?? `The server answered ${request.status}.`));
    };
    request.send(form);
  });
}

/** Drop a scene and its settings. */
export function Bring({ project }: { project: number }) {
  const [files, setFiles] = useState<File[]>([]);
  const [share, setShare] = useState(0);
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const scene = files.find((f) => /\.(glb|gltf|zip)$/i.test(f.name));
  const setup = files.find((f) => /\.json$/i.test(f.name));
  const bring = useWrite(
    () => {
      const form = new FormData();
      if (scene) form.append("scene", scene);
      if (setup) form.append("setup", setup);
      setShare(0);
      return send(`/api/projects/${project}/builds`, form, setShare);
    },
    (build) => {
      setFiles([]);
      go(`/p/${project}/b/${build.number}/intake`);
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
          <progress
            className="progress progress-primary w-full"
            {...(share < 1 ? { value: share, max: 1 } : {})}
            aria-label="upload"
          />
        </p>
      )}
      <Failed error={bring.error} />
    </section>
  );
}
