import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";
import { useProject } from "../../api/queries";
import { useWrite } from "../../api/writes";
import { Failed } from "../../ui/state";

/** Who may see this project; a lead invites and removes. */
export function Members({ project }: { project: number }) {
  const role = useProject(project).data?.role;
  const path = { project_id: project };
  const members = useQuery({
    queryKey: keys.members(project),
    queryFn: () => must(client.GET("/api/projects/{project_id}/members", { params: { path } })),
  });
  const [username, setUsername] = useState("");
  const [as, setAs] = useState<"viewer" | "artist" | "lead">("viewer");
  const invite = useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/members", { params: { path }, body: { username, role: as } }),
      ),
    () => setUsername(""),
  );
  const remove = useWrite((name: string) =>
    must(
      client.DELETE("/api/projects/{project_id}/members/{username}", {
        params: { path: { ...path, username: name } },
      }),
    ),
  );
  return (
    <section>
      <h2>People</h2>
      <ul>
        {(members.data ?? []).map((m) => (
          <li key={m.username} className="border-b hair py-1 flex justify-between">
            <span>
              {m.username}{" "}
              <span className="second">{m.invited ? `invited as ${m.role}, not yet accepted` : m.role}</span>
            </span>
            {role === "lead" && (
              <button
                type="button"
                className="btn btn-xs"
                onClick={() => remove.mutate(m.username)}
                aria-label={`${m.invited ? "withdraw" : "remove"} ${m.username}`}
              >
                {m.invited ? "Withdraw" : "Remove"}
              </button>
            )}
          </li>
        ))}
      </ul>
      {role === "lead" && (
        <form
          className="flex gap-2 mt-2"
          onSubmit={(e) => {
            e.preventDefault();
            invite.mutate(undefined);
          }}
        >
          <input
            className="input input-sm flex-1"
            aria-label="name"
            placeholder="name"
            required
            value={username}
            onChange={(e) => setUsername(e.target.value)}
          />
          <select
            className="select select-sm w-24"
            aria-label="role"
            value={as}
            onChange={(e) => setAs(e.target.value as typeof as)}
          >
            <option>viewer</option>
            <option>artist</option>
            <option>lead</option>
          </select>
          <button type="submit" className="btn btn-sm">
            Invite
          </button>
        </form>
      )}
      <Failed error={invite.error ?? remove.error} />
    </section>
  );
}
