import { useQuery } from "@tanstack/react-query";
import { at } from "./at";
import { client, must } from "./client";
import { keys } from "./keys";

export const useSession = () =>
  useQuery({ queryKey: keys.session(), queryFn: () => must(client.GET("/api/session")), staleTime: 30_000 });

export const useProjects = () =>
  useQuery({
    queryKey: keys.projects(),
    queryFn: () => must(client.GET("/api/projects")),
    refetchInterval: (q) => (q.state.data?.some((p) => p.jobs.length) ? 1200 : false),
  });

export const useProject = (project: number) =>
  useQuery({
    queryKey: keys.project(project),
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}", { params: { path: { project_id: project } } })),
  });

export const useBuild = (project: number, number: number) =>
  useQuery({
    queryKey: keys.build(project, number),
    queryFn: () => must(client.GET("/api/projects/{project_id}/builds/{number}", at(project, number))),
  });

export const useBuilds = (project: number) =>
  useQuery({
    queryKey: keys.builds(project),
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/builds", { params: { path: { project_id: project } } })),
  });

/** New deliveries of a build, the newest first. */
export const useDeliveries = (project: number, number: number) =>
  useQuery({
    queryKey: keys.deliveries(project, number),
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/builds/{number}/deliveries", at(project, number))),
    refetchInterval: (q) => (q.state.data?.some((d) => underWay(d.job)) ? 1000 : false),
  });

/** One delivery; asked for often while it is rehearsed. */
export const useDelivery = (project: number, number: number, delivery: number) =>
  useQuery({
    queryKey: keys.delivery(project, number, delivery),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/deliveries/{delivery_id}", {
          params: { path: { project_id: project, number, delivery_id: delivery } },
        }),
      ),
    refetchInterval: (q) => (q.state.data && underWay(q.state.data.job) ? 500 : false),
  });

export const underWay = (job: { state: string }) => job.state === "running" || job.state === "waiting";

/** Jobs of a project; asked for often while one is under way. */
export const useJobs = (project: number) =>
  useQuery({
    queryKey: keys.jobs(project),
    queryFn: () =>
      must(client.GET("/api/projects/{project_id}/jobs", { params: { path: { project_id: project } } })),
    refetchInterval: (q) =>
      q.state.data?.some((j) => j.state === "running" || j.state === "waiting") ? 700 : 6000,
  });
