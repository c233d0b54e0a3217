import { useQuery } from "@tanstack/react-query";
import { at } from "../../api/at";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";

export const useLedger = (project: number, number: number) =>
  useQuery({
    queryKey: keys.ledger(project, number),
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/ledger", at(project, number))),
  });

export const usePackages = (project: number, number: number) =>
  useQuery({
    queryKey: keys.packages(project, number),
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/builds/{number}/hand-over", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });
