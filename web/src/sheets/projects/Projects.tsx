import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { client, must } from "../../api/client";
import { useProjects, useWrite } from "../../api/queries";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { when } from "../../ui/words";
import { Invitations } from "./Invitations";

export function Projects() {
  const projects = useProjects();
  const [name, setName] = useState("");
  const go = useNavigate();
  const make = useWrite(
    () => must(client.POST("/api/projects", { body: { name } })),
    (p) => go(`/p/${p.id}`),
  );
  return (
    <main className="p-[22px] max-w-5xl">
      <h1>Projects</h1>
      <Invitations />
      <Failed error={projects.error ?? projects.failureReason} />
      {projects.isPending ? (
        <Skeleton />
      ) : projects.data?.length ? (
        <table className="sheet-table mt-3">
          <thead>
            <tr>
              <th>Project</th>
              <th>Builds</th>
              <th>Your role</th>
              <th>Since</th>
            </tr>
          </thead>
          <tbody>
            {projects.data.map((p) => (
              <tr key={p.id}>
                <td>
                  <Link
                    className="font-semibold underline"
                    to={p.newest ? `/p/${p.id}/b/${p.newest}/sweep` : `/p/${p.id}`}
                  >
                    {p.name}
                  </Link>
                </td>
                <td className="num">{p.builds}</td>
                <td>{p.role}</td>
                <td className="num">{when(p.created)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <Empty title="No project yet">Name one below; then bring in its first build.</Empty>
      )}
      <form
        className="mt-6 flex gap-2 items-end"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined);
        }}
      >
        <label className="flex flex-col gap-1">
          New project
          <input
            className="input input-sm w-72"
            required
            maxLength={120}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-sm" disabled={make.isPending}>
          Make it
        </button>
      </form>
      <Failed error={make.error} />
    </main>
  );
}
