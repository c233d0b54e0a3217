import { useState } from "react";
import { useKeep } from "../../api/writes";
import { Failed, Skeleton } from "../../ui/state";
import { type Look, useLeftovers } from "./queries";

/** Shadow settings of earlier trials that change no pixel, and one press to take them out. */
export function Leftovers({ look }: { look: Look }) {
  const [wanted, setWanted] = useState(false);
  const found = useLeftovers(look, wanted);
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
            {spare.length === 0
              ? `All ${found.data.settings.length} shadow settings change a pixel somewhere.`
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
