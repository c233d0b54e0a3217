import { useQuery } from "@tanstack/react-query";
import { at } from "../../api/at";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";

export const useSweeps = (project: number, number: number) =>
  useQuery({
    queryKey: keys.sweeps(project, number),
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/sweeps", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });

export const useSweep = (project: number, number: number, sweep: number | undefined) =>
  useQuery({
    queryKey: keys.sweep(project, number, sweep),
    enabled: sweep !== undefined,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/sweeps/{sweep_id}", {
          params: { path: { project_id: project, number, sweep_id: sweep ?? 0 } },
        }),
      ),
  });
