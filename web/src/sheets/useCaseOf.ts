import { useNavigate } from "react-router";
import { client, must } from "../api/client";
import { useWrite } from "../api/writes";
import type { Look } from "./look";

/** Opens a case of what a sheet looks at, and goes to it. */
export function useCaseOf(look: Look, symptom: string, spot: number[] | null) {
  const go = useNavigate();
  return useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases", {
          params: { path: { project_id: look.project, number: look.build } },
          body: { viewpoint: look.viewpoint, symptom, spot, target: look.target },
        }),
      ),
    (c) => go(`/p/${look.project}/b/${look.build}/bench/${c.number}`),
  );
}
