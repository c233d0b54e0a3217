import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { casePath, client, must, type Schemas } from "../../api/client";
import { useBuild } from "../../api/queries";
import { useWrite } from "../../api/writes";
import { Mark } from "../../ui/marks";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { OneOfMany } from "../../ui/Picture";
import { usePlace } from "../../ui/place";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { percent, when } from "../../ui/words";
import { useCases, useSymptoms } from "./queries";

type CaseLine = Schemas["CaseLine"];

/** All cases of a build, and a new one from a viewpoint and a symptom. */
export function Cases() {
  const { project, build } = usePlace();
  const cases = useCases(project, build);
  return (
    <Page className="max-w-6xl">
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
              <th>Spot</th>
              <th>Case</th>
              <th>Impact</th>
              <th>Stage</th>
              <th>Has come to</th>
              <th>Opened</th>
            </tr>
          </thead>
          <tbody>
            {cases.data.map((c) => (
              <Row key={c.number} of={c} project={project} build={build} />
            ))}
          </tbody>
        </table>
      )}
      <NewCase project={project} build={build} />
    </Page>
  );
}

function Row({ of, project, build }: { of: CaseLine; project: number; build: number }) {
  const measured = of.impact?.kind === "measured";
  return (
    <tr>
      <td className="w-[136px]">
        <OneOfMany
          className="block w-[128px] h-[72px] object-cover"
          alt=""
          src={`${casePath(project, build, of.number)}/spot?v=${of.stamp}`}
        />
      </td>
      <td>
        <Link className="font-semibold underline" to={`/p/${project}/b/${build}/bench/${of.number}`}>
          {of.number} · {of.title}
        </Link>
        <span className="second block">
          {of.symptom} at <span className="num">{of.viewpoint}</span>
        </span>
        <span className="num second">{of.code}</span>
      </td>
      <td className="whitespace-nowrap">
        <span className="flex gap-1 items-center">
          {of.severity && <Mark severity={of.severity} size={11} />}
          {of.impact ? (
            <span className="num">
              {percent(of.impact.share)} <span className="second">{measured ? "" : "shown"}</span>
            </span>
          ) : (
            <span className="second">not measured</span>
          )}
        </span>
      </td>
      <td>{of.stage}</td>
      <td>{of.standing}</td>
      <td className="second whitespace-nowrap">
        {of.opened_by ?? "someone who is gone"}
        <br />
        <span className="num">{when(of.opened)}</span>
      </td>
    </tr>
  );
}

function NewCase({ project, build }: { project: number; build: number }) {
  const info = useBuild(project, build);
  const symptoms = useSymptoms();
  const [viewpoint, setViewpoint] = useState("");
  const [symptom, setSymptom] = useState("see-through");
  const [title, setTitle] = useState("");
  const go = useNavigate();
  const views = (info.data?.viewpoints ?? []).map((v) => v.key);
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
      <Pick
        above
        label="Viewpoint"
        value={viewpoint || (views[0] ?? "")}
        options={views}
        pick={setViewpoint}
      />
      <Pick
        above
        label="Symptom"
        value={symptom}
        options={(symptoms.data ?? [])
          .filter((s) => s.scored === "yes")
          .map((s) => ({ value: s.name ?? "", title: s.means }))}
        pick={setSymptom}
      />
      <button type="submit" className="btn btn-sm" disabled={views.length === 0 || open.isPending}>
        Open a case
      </button>
      <Failed error={open.error} />
    </form>
  );
}
