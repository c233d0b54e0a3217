import { useQuery } from "@tanstack/react-query";
import { at } from "../../api/at";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";

export const useCases = (project: number, number: number) =>
  useQuery({
    queryKey: keys.cases(project, number),
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/cases", at(project, number))),
  });

export const useCase = (project: number, number: number, c: number) =>
  useQuery({
    queryKey: keys.case(project, number, c),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/cases/{case_number}", {
          params: { path: { project_id: project, number, case_number: c } },
        }),
      ),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.proof?.job.state ?? "") ? 700 : false,
  });

/** Symptoms by name; "scored" says whether a line-up can judge trials by them. */
export const useSymptoms = () =>
  useQuery({
    queryKey: keys.symptoms(),
    queryFn: () => must(client.GET("/api/symptoms")),
    staleTime: Number.POSITIVE_INFINITY,
  });
