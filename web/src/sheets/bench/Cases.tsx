import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { client, must } from "../../api/client";
import { useBuild, useCases, useSymptoms, useWrite } from "../../api/queries";
import { usePlace } from "../../ui/place";
import { Empty, Failed, Skeleton } from "../../ui/state";

/** All cases of a build, and a new one from a viewpoint and a symptom. */
export function Cases() {
  const { project, build } = usePlace();
  const cases = useCases(project, build);
  return (
    <main className="p-[22px] max-w-5xl">
      <h1>Cases of build {build}</h1>
      <Failed error={cases.error} />
      {cases.isPending && <Skeleton />}
      {cases.data?.length === 0 && (
        <Empty title="No case is open">
          Open one from a finding on the{" "}
          <Link className="underline" to={`/p/${project}/b/${build}/sweep`}>
            Sweep
          </Link>{" "}
          sheet, or from what you see yourself, below.
        </Empty>
      )}
      {!!cases.data?.length && (
        <table className="sheet-table mt-3">
          <thead>
            <tr>
              <th>Case</th>
              <th>Symptom</th>
              <th>Viewpoint</th>
              <th>Has come to</th>
              <th>Code</th>
            </tr>
          </thead>
          <tbody>
            {cases.data.map((c) => (
              <tr key={c.number}>
                <td>
                  <Link className="font-semibold underline" to={`/p/${project}/b/${build}/bench/${c.number}`}>
                    {c.number} · {c.title}
                  </Link>
                </td>
                <td>{c.symptom}</td>
                <td className="num">{c.viewpoint}</td>
                <td>{c.stage}</td>
                <td className="num second">{c.code}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <NewCase project={project} build={build} />
    </main>
  );
}

function NewCase({ project, build }: { project: number; build: number }) {
  const info = useBuild(project, build);
  const symptoms = useSymptoms();
  const [viewpoint, setViewpoint] = useState("");
  const [symptom, setSymptom] = useState("see-through");
  const [title, setTitle] = useState("");
  const go = useNavigate();
  const views = (info.data?.viewpoints ?? []).map((v) => v.key as string);
  const open = useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases", {
          params: { path: { project_id: project, number: build } },
          body: { viewpoint: viewpoint || views[0], symptom, title: title || null },
        }),
      ),
    (c) => go(`/p/${project}/b/${build}/bench/${c.number}`),
  );
  return (
    <form
      className="mt-6 flex gap-3 items-end flex-wrap"
      onSubmit={(e) => {
        e.preventDefault();
        open.mutate(undefined);
      }}
    >
      <label className="flex flex-col gap-1">
        What is wrong
        <input
          className="input input-sm w-72"
          maxLength={120}
          placeholder="in plain words"
          value={title}
          onChange={(e) => setTitle(e.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1">
        Viewpoint
        <select
          className="select select-sm w-40"
          value={viewpoint || views[0]}
          onChange={(e) => setViewpoint(e.target.value)}
        >
          {views.map((v) => (
            <option key={v}>{v}</option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1">
        Symptom
        <select
          className="select select-sm w-40"
          value={symptom}
          onChange={(e) => setSymptom(e.target.value)}
        >
          {(symptoms.data ?? [])
            .filter((s) => s.scored === "yes")
            .map((s) => (
              <option key={s.name} title={s.means}>
                {s.name}
              </option>
            ))}
        </select>
      </label>
      <button type="submit" className="btn btn-sm" disabled={views.length === 0 || open.isPending}>
        Open a case
      </button>
      <Failed error={open.error} />
    </form>
  );
}
