import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, must } from "./client";

const at = (project: number, number: number) => ({ params: { path: { project_id: project, number } } });

export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: () => must(client.GET("/api/session")), staleTime: 30_000 });

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: () => must(client.GET("/api/projects")) });

export const useProject = (project: number) =>
  useQuery({
    queryKey: ["project", project],
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}", { params: { path: { project_id: project } } })),
  });

export const useBuild = (project: number, number: number) =>
  useQuery({
    queryKey: ["build", project, number],
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}", at(project, number))),
  });

export const useBuilds = (project: number) =>
  useQuery({
    queryKey: ["builds", project],
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/builds", { params: { path: { project_id: project } } })),
  });

/** Jobs of a project; asked for often while one is under way. */
export const useJobs = (project: number) =>
  useQuery({
    queryKey: ["jobs", project],
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/jobs", { params: { path: { project_id: project } } })),
    refetchInterval: (q) =>
      q.state.data?.some((j) => j.state === "running" || j.state === "waiting") ? 700 : 6000,
  });

export const useSweeps = (project: number, number: number) =>
  useQuery({
    queryKey: ["sweeps", project, number],
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/sweeps", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });

export const useSweep = (project: number, number: number, sweep: number | undefined) =>
  useQuery({
    queryKey: ["sweep", project, number, sweep],
    enabled: sweep !== undefined,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/sweeps/{sweep_id}", {
          params: { path: { project_id: project, number, sweep_id: sweep ?? 0 } },
        }),
      ),
  });

export const useCases = (project: number, number: number) =>
  useQuery({
    queryKey: ["cases", project, number],
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/cases", at(project, number))),
  });

export const caseKey = (project: number, number: number, c: number) => ["case", project, number, c];

export const useCase = (project: number, number: number, c: number) =>
  useQuery({
    queryKey: caseKey(project, number, c),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/cases/{case_number}", {
          params: { path: { project_id: project, number, case_number: c } },
        }),
      ),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.proof?.job.state ?? "") ? 700 : false,
  });

export const useLedger = (project: number, number: number) =>
  useQuery({
    queryKey: ["ledger", project, number],
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/ledger", at(project, number))),
  });

export const usePackages = (project: number, number: number) =>
  useQuery({
    queryKey: ["packages", project, number],
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/builds/{number}/hand-over", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });

/** A write that brings everything on the page up to date afterwards. */
export function useWrite<In, Out>(work: (input: In) => Promise<Out>, then?: (out: Out) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: work,
    onSuccess: (out) => then?.(out),
    onSettled: () => queries.invalidateQueries(),
  });
}

export const useLightmaps = (project: number, number: number, target: string | null = null, enabled = true) =>
  useQuery({
    queryKey: ["lightmaps", project, number, target],
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
    queryKey: ["bakes", project, number],
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}/bakes", at(project, number))),
    refetchInterval: (q) =>
      ["running", "waiting"].includes(q.state.data?.[0]?.job.state ?? "") ? 700 : false,
  });
