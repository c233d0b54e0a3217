import { type Build, buildPath, csrf, Refusal } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Picture } from "../../ui/Picture";
import { Failed } from "../../ui/state";

/** A first frame from each viewpoint; each may have the user's own capture to wipe against. */
export function FirstFrames({ project, build }: { project: number; build: Build }) {
  return (
    <ul className="grid gap-3 grid-cols-2 xl:grid-cols-3 mt-3">
      {build.viewpoints.map((view) => (
        <First
          key={view.key as string}
          project={project}
          build={build}
          view={view as { key: string; role: string; capture: boolean }}
        />
      ))}
    </ul>
  );
}

function First({
  project,
  build,
  view,
}: {
  project: number;
  build: Build;
  view: { key: string; role: string; capture: boolean };
}) {
  const path = `${buildPath(project, build.number)}/frames/${encodeURIComponent(view.key)}`;
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
          src={`${path}?width=480&height=270&state=built`}
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
