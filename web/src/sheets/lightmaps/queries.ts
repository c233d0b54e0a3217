import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { at } from "../../api/at";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";

export const useLightmaps = (project: number, number: number, target: string | null = null, enabled = true) =>
  useQuery({
    queryKey: keys.lightmaps(project, number, target),
    enabled,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/lightmaps", {
          params: { path: { project_id: project, number }, query: { target } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const useBakes = (project: number, number: number) =>
  useQuery({
    queryKey: keys.bakes(project, number),
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/bakes", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });
