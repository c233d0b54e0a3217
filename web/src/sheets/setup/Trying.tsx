import { useState } from "react";
import { client, must } from "../../api/client";
import { useAsk } from "../../api/queries";
import { Failed } from "../../ui/state";
import { percent } from "../../ui/words";
import type { Where } from "./Setup";

/** Text of a field to the value it stands for: JSON where it reads as JSON, else the words themselves. */
export function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

/** An edit is a trial with its measured effect, never a silent save. */
export function Trying({
  where,
  path,
  start,
  limits,
}: {
  where: Where;
  path: string;
  start: unknown;
  limits: string;
}) {
  const [text, setText] = useState(typeof start === "string" ? start : JSON.stringify(start));
  const trial = useAsk(() =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/setup/trial", {
        params: { path: { project_id: where.project, number: where.build } },
        body: { path, value: read(text), viewpoint: where.viewpoint, target: where.target },
      }),
    ),
  );
  return (
    <form
      className="flex gap-3 items-center flex-wrap py-1"
      onSubmit={(e) => {
        e.preventDefault();
        trial.mutate(undefined);
      }}
    >
      <label className="flex gap-2 items-center">
        value
        <input className="input input-sm num w-56" value={text} onChange={(e) => setText(e.target.value)} />
      </label>
      {limits && <span className="num second">{limits}</span>}
      <button type="submit" className="btn btn-sm" disabled={trial.isPending}>
        Measure at {where.viewpoint}
      </button>
      {trial.data && (
        <output>
          {trial.data.unchanged
            ? "This is the value in force."
            : `${percent(trial.data.changed_share)} of the frame changes visibly. Nothing was saved.`}
          {trial.data.overridden_by &&
            ` It would be set at ${trial.data.overridden_by}, which overrides the project.`}
        </output>
      )}
      <Failed error={trial.error} />
    </form>
  );
}
