import { useMutation, useQueryClient } from "@tanstack/react-query";
import { client, must, Refusal, type Schemas } from "./client";
import { useBuild } from "./queries";

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

/** Keeps a change in a build's ledger, made on the version that the page shows. */
export function useKeep(project: number, build: number, then?: () => void) {
  const version = useBuild(project, build).data?.version ?? 0;
  return useWrite(
    (body: Schemas["KeepChange"]) =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/ledger", {
          params: { path: { project_id: project, number: build }, header: { "If-Match": String(version) } },
          body,
        }),
      ),
    then,
  );
}

/** A question that takes time and saves nothing, such as a what-if: everything on the page stays as it is. */
export function useAsk<In, Out>(work: (input: In) => Promise<Out>, then?: (out: Out) => void) {
  return useMutation({ mutationFn: work, onSuccess: (out) => then?.(out) });
}
