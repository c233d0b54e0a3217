import { useQuery } from "@tanstack/react-query";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";
import { when } from "../../ui/words";

/** Who did what in this project, newest first. */
export function Events({ project }: { project: number }) {
  const events = useQuery({
    queryKey: keys.events(project),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/events", {
          params: { path: { project_id: project }, query: { limit: 30 } },
        }),
      ),
  });
  if (!events.data?.length) return null;
  return (
    <section className="mt-8">
      <h2>Who did what</h2>
      <ul className="mt-1">
        {events.data.map((e) => (
          <li key={e.at + e.about} className="border-b hair py-1 flex gap-3">
            <span className="num second w-28 shrink-0">{when(e.at)}</span>
            <span className="w-20 shrink-0">{e.who}</span>
            <span>
              {e.what} <span className="second">{e.about}</span>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
