import { useNavigate } from "react-router";
import { client, must } from "../../api/client";
import { useWrite } from "../../api/writes";
import type { Look } from "../look";

/** A case of what is looked at: of a pop along a move, else of an order that is wrong at the viewpoint. */
export function useCase(look: Look, pops: boolean) {
  const go = useNavigate();
  return useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases", {
          params: { path: { project_id: look.project, number: look.build } },
          body: {
            viewpoint: look.viewpoint,
            symptom: pops ? "pops" : "drawn over what is nearer",
            spot: null,
            target: look.target,
          },
        }),
      ),
    (c) => go(`/p/${look.project}/b/${look.build}/bench/${c.number}`),
  );
}
