import { Link } from "react-router";
import { client, must, type Schemas } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Failed } from "../../ui/state";
import { Warnings } from "../../ui/Warnings";
import { costWords } from "../../ui/words";
import { useSweep, useSweeps } from "./queries";

type Props = {
  project: number;
  build: number;
  drawables: string[];
  cause: string | undefined;
  /** Only findings that are worked on at this sheet. */
  sheet?: string;
};
type Item = Schemas["FindingOut"];

const documentOf = (f: Item) => f.document;

/** What the last sweep found on these, the cause just asked about first, with remedies to keep. */
export function WhatToDo({ project, build, drawables, cause, sheet }: Props) {
  const sweeps = useSweeps(project, build);
  const last = sweeps.data?.find((s) => s.job.state === "done");
  const sweep = useSweep(project, build, last?.id);
  const mine = (sweep.data?.items ?? [])
    .filter((f) => documentOf(f).subjects.some((s) => drawables.includes(s)))
    .filter((f) => !sheet || documentOf(f).sheet === sheet)
    .sort((a, b) => Number(documentOf(b).code === cause) - Number(documentOf(a).code === cause));
  return (
    <section aria-label="What to do">
      <h2>What to do</h2>
      {sweeps.data && !last && (
        <p className="second">
          The build has not been swept yet:{" "}
          <Link className="underline" to={`/p/${project}/b/${build}/sweep`}>
            sweep it
          </Link>{" "}
          to have remedies tried and their cost measured.
        </p>
      )}
      {last && sweep.data && mine.length === 0 && (
        <p className="second">The last sweep found nothing on this asset.</p>
      )}
      <ul>
        {mine.map((f) => (
          <Finding
            key={f.id}
            project={project}
            build={build}
            item={f}
            open={documentOf(f).code === cause || mine.length === 1}
          />
        ))}
      </ul>
    </section>
  );
}

function Finding({
  project,
  build,
  item,
  open,
}: {
  project: number;
  build: number;
  item: Item;
  open: boolean;
}) {
  const d = documentOf(item);
  const path = { project_id: project, number: build };
  const keep = useWrite(async (remedy: number) => {
    const opened = await must(
      client.POST("/api/projects/{project_id}/builds/{number}/cases", {
        params: { path },
        body: { finding: item.id },
      }),
    );
    const params = {
      path: { ...path, case_number: opened.number },
      header: { "If-Match": String(opened.version) },
    };
    return must(
      client.POST("/api/projects/{project_id}/builds/{number}/cases/{case_number}/keep", {
        params,
        body: { remedy, reason: "" },
      }),
    );
  });
  return (
    <li className="border-b hair py-1">
      <details open={open}>
        <summary>
          <b>{d.title}</b> <span className="num second">{d.code}</span>
        </summary>
        <ul className="mt-1">
          {d.remedies.map((r, i) => (
            <li key={r.title} className="flex gap-2 justify-between items-start py-[3px]">
              <span>
                {r.title}{" "}
                <span className={r.verdict === "cures" ? "text-success" : "second"}>{r.verdict}</span>
                <span className="second block text-[11px] leading-tight">
                  {[r.predicts, ...r.costs.map(costWords), ...r.side_effects].join("; ")}
                </span>
                <Warnings of={r} />
              </span>
              <button
                type="button"
                className="btn btn-xs"
                aria-label={`keep ${r.title}`}
                disabled={keep.isPending || r.verdict === "does not apply"}
                onClick={() => keep.mutate(i)}
              >
                Keep
              </button>
            </li>
          ))}
        </ul>
        {item.case !== null && (
          <Link className="underline" to={`/p/${project}/b/${build}/bench/${item.case}`}>
            Case {item.case} on the Bench: prove it there
          </Link>
        )}
        <Failed error={keep.error} />
      </details>
    </li>
  );
}
