import { useState } from "react";
import { useSearchParams } from "react-router";
import { useBuild } from "../api/queries";
import { usePlace } from "../ui/place";
import { useBeforeKey } from "./lightmaps/useBeforeKey";

/** Where a sheet looks from: the stamp is the version of the build, so that nothing of an older one is shown for it. */
export type Look = {
  project: number;
  build: number;
  viewpoint: string;
  target: string | null;
  state: "head" | "built";
  stamp: string;
};

/** What a sheet of one viewpoint has in its address, and what of the build it needs; B held: as the build came in. */
export function useLook() {
  const { project, build } = usePlace();
  const info = useBuild(project, build);
  const [query, setQuery] = useSearchParams();
  const [state, setState] = useState<"head" | "built">("head");
  useBeforeKey((held) => setState(held ? "built" : "head"));
  const viewpoints = info.data?.viewpoints.map((v) => v.key) ?? [];
  const look: Look = {
    project,
    build,
    viewpoint: query.get("from") ?? viewpoints[0] ?? "",
    target: query.get("target"),
    state,
    stamp: String(info.data?.version ?? 0),
  };
  const set = (values: Record<string, string | null>) => {
    const next = new URLSearchParams(query);
    for (const [k, v] of Object.entries(values)) v === null ? next.delete(k) : next.set(k, v);
    setQuery(next, { replace: true });
  };
  return { info, viewpoints, targets: info.data?.targets ?? [], look, query, set };
}
