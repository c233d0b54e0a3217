import { useQueryClient } from "@tanstack/react-query";
import { type Case, client, must, Refusal } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/writes";
import type { Spot } from "./Stage";

/** Writes of a case: each says which version it was made on; a conflict shows what is there now. */
export function useActs(project: number, build: number, of: Case) {
  const queries = useQueryClient();
  const path = { project_id: project, number: build, case_number: of.number };
  const params = { path, header: { "If-Match": String(of.version) } };
  const key = keys.case(project, build, of.number);
  const told = (c: Case) => queries.setQueryData(key, c);
  const edit = useWrite(
    (body: { symptom?: string; spot?: Spot; subject?: string | null; viewpoint?: string }) =>
      must(client.PATCH("/api/projects/{project_id}/builds/{number}/cases/{case_number}", { params, body })),
    told,
  );
  const keep = useWrite(
    (body: { trial?: number; remedy?: number }) =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases/{case_number}/keep", {
          params,
          body: { reason: "", ...body },
        }),
      ),
    told,
  );
  const prove = useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases/{case_number}/proofs", {
          params: { path },
        }),
      ),
    told,
  );
  // The last kept change of this case goes; the ledger says which version that is done on.
  const drop = useWrite(async () => {
    const last = of.kept.at(-1);
    if (!last) throw new Error("Nothing of this case is kept, so there is nothing to drop.");
    const ledger = await must(
      client.GET("/api/projects/{project_id}/builds/{number}/ledger", {
        params: { path: { project_id: project, number: build } },
      }),
    );
    return must(
      client.POST("/api/projects/{project_id}/builds/{number}/ledger/{change_id}/drop", {
        params: {
          path: { project_id: project, number: build, change_id: last.id },
          header: { "If-Match": String(ledger.version) },
        },
      }),
    );
  });
  const refused = edit.error ?? keep.error ?? drop.error ?? prove.error;
  const conflict = refused instanceof Refusal && refused.status === 409 && "current" in refused.body;
  const error = conflict
    ? new Error(
        `${refused.message}. What they did is on the page now; yours was not written: do it again if it still fits.`,
      )
    : refused;
  return { edit, keep, drop, prove, error };
}
