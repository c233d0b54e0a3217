import { useState } from "react";
import { client, must } from "../../api/client";
import { useAsk, useKeep } from "../../api/writes";
import { Failed } from "../../ui/state";
import { percent } from "../../ui/words";
import { asked, type Edits, type Where } from "./edits";
import { written } from "./values";

/** The edits as one trial: measured together, kept together with a reason, never saved silently. */
export function Trial({ where, edits }: { where: Where; edits: Edits }) {
  const [reason, setReason] = useState("");
  const at = { path: { project_id: where.project, number: where.build } };
  const question = JSON.stringify([asked(edits.edits), where]);
  const trial = useAsk(async () => {
    const body = { edits: asked(edits.edits), viewpoint: where.viewpoint, target: where.target };
    const effect = await must(
      client.POST("/api/projects/{project_id}/builds/{number}/setup/trial", { params: at, body }),
    );
    return { effect, question };
  });
  const effect = trial.data?.question === question ? trial.data.effect : undefined;
  const keep = useKeep(where.project, where.build, () => {
    edits.clear();
    setReason("");
  });
  if (!edits.edits.length) return null;
  const n = edits.edits.length;
  return (
    <form
      aria-label="Trial"
      className="sticky bottom-0 mt-6 border border-accent border-l-[5px] bg-base-100 px-3 py-2 grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        trial.mutate(undefined);
      }}
    >
      <ul className="flex gap-x-5 gap-y-1 flex-wrap max-h-24 overflow-y-auto">
        {edits.edits.map((e) => (
          <li key={e.path.join("\n")}>
            <b>{e.name}</b>{" "}
            <span className="num">
              {written(e.was)} → {e.text || "none"}
            </span>{" "}
            <button
              type="button"
              className="underline"
              aria-label={`Do not try ${e.name}`}
              onClick={() => edits.take(e.path)}
            >
              take out
            </button>
          </li>
        ))}
      </ul>
      <div className="flex gap-3 items-center flex-wrap">
        <button type="submit" className="btn btn-sm" disabled={trial.isPending}>
          Measure {n === 1 ? "it" : `all ${n}`} at {where.viewpoint}
        </button>
        {effect && (
          <output>
            {effect.unchanged
              ? "This is what is in force."
              : `${percent(effect.changed_share)} of the frame changes visibly. Nothing was saved.`}
            {effect.overridden_by.length > 0 &&
              ` Set at ${effect.overridden_by.join(" and ")}, which overrides the project.`}
          </output>
        )}
        {effect && !effect.unchanged && (
          <>
            <input
              className="input input-sm w-64"
              aria-label="Reason"
              placeholder="why, in a few words"
              maxLength={1000}
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={keep.isPending}
              onClick={() =>
                keep.mutate({
                  change: effect.change,
                  evidence: { from: "set-up", changed_share: effect.changed_share },
                  reason,
                })
              }
            >
              Keep as one change
            </button>
          </>
        )}
      </div>
      <Failed error={trial.error ?? keep.error} />
    </form>
  );
}
