import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, must, Refusal } from "./client";

const at = (project: number, number: number) => ({ params: { path: { project_id: project, number } } });

export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: () => must(client.GET("/api/session")), staleTime: 30_000 });

export const useProjects = () =>
  useQuery({
    queryKey: ["projects"],
    queryFn: () => must(client.GET("/api/projects")),
    refetchInterval: (q) => (q.state.data?.some((p) => p.jobs.length) ? 1200 : false),
  });

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

/** Symptoms by name; "scored" says whether a line-up can judge trials by them. */
export const useSymptoms = () =>
  useQuery({
    queryKey: ["symptoms"],
    queryFn: () => must(client.GET("/api/symptoms")),
    staleTime: Number.POSITIVE_INFINITY,
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

/** What no write changes: it is not asked for again. */
const FIXED = new Set<unknown>(["symptoms"]);

/** A write that brings what it may have changed up to date afterwards. One that was refused changed nothing, unless others wrote
 *  meanwhile (409): then the page shows what they did. */
export function useWrite<In, Out>(work: (input: In) => Promise<Out>, then?: (out: Out) => void) {
  const queries = useQueryClient();
  const anew = () => queries.invalidateQueries({ predicate: (q) => !FIXED.has(q.queryKey[0]) });
  return useMutation({
    mutationFn: work,
    onSuccess: (out) => {
      then?.(out);
      return anew();
    },
    onError: (error) => (error instanceof Refusal && error.status !== 409 ? undefined : anew()),
  });
}

/** A question that takes time and saves nothing, such as a what-if: everything on the page stays as it is. */
export function useAsk<In, Out>(work: (input: In) => Promise<Out>, then?: (out: Out) => void) {
  return useMutation({ mutationFn: work, onSuccess: (out) => then?.(out) });
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
