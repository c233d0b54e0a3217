import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { buildPath, client, must, type Project } from "../../api/client";
import { useProjects } from "../../api/queries";
import { useWrite } from "../../api/writes";
import { Mark } from "../../ui/marks";
import { Page } from "../../ui/Page";
import { OneOfMany } from "../../ui/Picture";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { when } from "../../ui/words";
import { Invitations } from "./Invitations";

/** A project: what it looks like, how its newest build stands, who is on it, and what runs. */
function Line({ project: p }: { project: Project }) {
  const to = p.newest ? `/p/${p.id}/b/${p.newest}/sweep` : `/p/${p.id}`;
  return (
    <li className="grid grid-cols-[140px_1fr_220px_200px] gap-5 items-center border-b hair py-2 bg-base-100">
      {p.newest && p.viewpoint ? (
        <OneOfMany
          className="w-[140px] h-[79px] bg-base-200 object-cover"
          alt=""
          src={`${buildPath(p.id, p.newest)}/frames/${encodeURIComponent(p.viewpoint)}?width=480&height=270`}
        />
      ) : (
        <span className="w-[140px] h-[79px] bg-base-200" aria-hidden="true" />
      )}
      <div>
        <Link className="font-semibold underline text-[16px]" to={to}>
          {p.name}
        </Link>
        <p className="second">
          {p.builds === 1 ? "1 build" : `${p.builds} builds`} · since {when(p.created)}
        </p>
        <p className="second truncate">
          {p.people.join(", ")} · you are {p.role}
        </p>
      </div>
      <Found found={p.found} />
      <div>
        {p.jobs.map((j) => (
          <p key={j.id} className="num">
            {j.about} · {Math.round(j.progress * 100)} %<br />
            <span className="second">{j.message}</span>
          </p>
        ))}
      </div>
    </li>
  );
}

function Found({ found }: { found: Project["found"] }) {
  if (!found) return <p className="second">not swept yet</p>;
  if (!found.blocking && !found.visible) return <p>nothing blocks, nothing shows</p>;
  return (
    <ul className="flex flex-col gap-1">
      {found.blocking > 0 && (
        <li className="flex items-center gap-2">
          <Mark severity="blocking" size={12} /> {found.blocking} {found.blocking === 1 ? "blocks" : "block"}{" "}
          it
        </li>
      )}
      {found.visible > 0 && (
        <li className="flex items-center gap-2">
          <Mark severity="visible" size={12} /> {found.visible} visible
        </li>
      )}
      {found.new > 0 && <li className="second">{found.new} new since the build before</li>}
    </ul>
  );
}

export function Projects() {
  const projects = useProjects();
  const [name, setName] = useState("");
  const go = useNavigate();
  const make = useWrite(
    () => must(client.POST("/api/projects", { body: { name } })),
    (p) => go(`/p/${p.id}`),
  );
  return (
    <Page className="max-w-5xl">
      {/* Above what is still to come, so that nothing moves under the pointer when it does. */}
      <div className="flex justify-between items-end gap-6">
        <h1>Projects</h1>
        <form
          className="flex gap-2 items-end"
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
      </div>
      <Invitations />
      <Failed error={projects.error ?? projects.failureReason} />
      {projects.isPending ? (
        <Skeleton />
      ) : projects.data?.length ? (
        <ul className="mt-3 border-t border-base-content">
          {projects.data.map((p) => (
            <Line key={p.id} project={p} />
          ))}
        </ul>
      ) : (
        <Empty title="No project yet">Name one below; then bring in its first build.</Empty>
      )}
      <Failed error={make.error} />
    </Page>
  );
}
