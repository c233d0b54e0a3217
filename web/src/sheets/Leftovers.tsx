import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, must } from "../api/client";
import { keys } from "../api/keys";
import { useKeep } from "../api/writes";
import { Failed, Skeleton } from "../ui/state";
import type { Look } from "./look";

const WORDS = { shadow: "shadow settings", order: "settings of the draw order" };

/** Settings of earlier trials that change no pixel, and one press to take them out. */
export function Leftovers({ look, of }: { look: Look; of: keyof typeof WORDS }) {
  const [wanted, setWanted] = useState(false);
  const found = useQuery({
    queryKey: keys.leftovers(look.project, look.build, of, look.stamp),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/leftovers", {
          params: { path: { project_id: look.project, number: look.build }, query: { of } },
        }),
      ),
  });
  const keep = useKeep(look.project, look.build);
  const spare = found.data?.settings.filter((s) => !s.needed) ?? [];
  return (
    <section aria-label="Leftovers" className="mt-3">
      <h2>Leftovers</h2>
      {!wanted && (
        <p className="mt-1">
          <button type="button" className="btn btn-sm" onClick={() => setWanted(true)}>
            Look for settings that change nothing
          </button>
        </p>
      )}
      <Failed error={found.error ?? keep.error} />
      {wanted && found.isPending && <Skeleton lines={3} />}
      {found.data && (
        <>
          <p className="second">
            {found.data.settings.length === 0
              ? `None of the ${WORDS[of]} is set.`
              : spare.length === 0
                ? `All ${found.data.settings.length} ${WORDS[of]} that are set change a pixel somewhere.`
                : `${spare.length} of ${found.data.settings.length} change no pixel in ${found.data.looked.length} frames:`}
          </p>
          <ul>
            {spare.map((s) => (
              <li key={s.setting} className="num">
                {s.setting} = {String(s.value)}
              </li>
            ))}
          </ul>
          {found.data.change && (
            <button
              type="button"
              className="btn btn-xs mt-1"
              disabled={keep.isPending}
              onClick={() =>
                keep.mutate({
                  change: found.data?.change ?? {},
                  evidence: {},
                  reason: "they change no pixel",
                })
              }
            >
              Take them out
            </button>
          )}
        </>
      )}
    </section>
  );
}
