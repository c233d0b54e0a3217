import { useState } from "react";
import { Link } from "react-router";
import { type Change, client, must } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Page } from "../../ui/Page";
import { usePlace } from "../../ui/place";
import { Empty, Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { costWords, percent, when } from "../../ui/words";
import { Events } from "./Events";
import { HandOver } from "./HandOver";
import { Patch } from "./Patch";
import { useLedger } from "./queries";

export function Ledger() {
  const { project, build } = usePlace();
  const ledger = useLedger(project, build);
  useTitleBlock(ledger.data ? { Ledger: `version ${ledger.data.version}` } : {});
  if (ledger.isPending)
    return (
      <Page>
        <Skeleton lines={6} />
      </Page>
    );
  if (!ledger.data)
    return (
      <Page>
        <Failed error={ledger.error} />
      </Page>
    );
  const kept = ledger.data.changes.filter((c) => c.dropped === null);
  const dropped = ledger.data.changes.filter((c) => c.dropped !== null);
  return (
    <Page className="grid gap-8 xl:grid-cols-[1fr_460px] items-start">
      <div>
        <h1>
          {kept.length === 0
            ? "Nothing kept yet"
            : `${kept.length} change${kept.length === 1 ? "" : "s"} kept, in order`}
        </h1>
        {kept.length === 0 ? (
          <div className="mt-3">
            <Empty title="The ledger is empty">
              Open a case on the{" "}
              <Link className="underline" to={`/p/${project}/b/${build}/bench`}>
                Bench
              </Link>
              , find the change that clears it, and keep it.
            </Empty>
          </div>
        ) : (
          <Changes project={project} build={build} version={ledger.data.version} changes={kept} />
        )}
        {dropped.length > 0 && (
          <details className="mt-4">
            <summary>{dropped.length} dropped</summary>
            <ul className="second">
              {dropped.map((c) => (
                <li key={c.id}>
                  {c.title}: dropped by {c.dropped_by} on {when(c.dropped ?? "")}
                </li>
              ))}
            </ul>
          </details>
        )}
        <Events project={project} />
      </div>
      <aside className="flex flex-col gap-6">
        <Patch patch={ledger.data.patch as { op: string; path: string; value?: unknown }[]} />
        <HandOver project={project} build={build} kept={kept.length} />
      </aside>
    </Page>
  );
}

function Changes(props: { project: number; build: number; version: number; changes: Change[] }) {
  const [asked, setAsked] = useState<number>();
  const drop = useWrite(
    (id: number) =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/ledger/{change_id}/drop", {
          params: {
            path: { project_id: props.project, number: props.build, change_id: id },
            header: { "If-Match": String(props.version) },
          },
        }),
      ),
    () => setAsked(undefined),
  );
  const order = useWrite((ids: number[]) =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/ledger/order", {
        params: {
          path: { project_id: props.project, number: props.build },
          header: { "If-Match": String(props.version) },
        },
        body: { order: ids },
      }),
    ),
  );
  const swap = (at: number) => {
    const ids = props.changes.map((c) => c.id);
    order.mutate([...ids.slice(0, at), ids[at + 1] as number, ids[at] as number, ...ids.slice(at + 2)]);
  };
  return (
    <>
      <Failed error={drop.error ?? order.error} />
      <table className="sheet-table mt-3">
        <thead>
          <tr>
            <th>Change</th>
            <th>Scope</th>
            <th>Reason</th>
            <th>Costs and evidence</th>
            <th>Who</th>
            <th>
              <span className="sr-only">Order and drop</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {props.changes.map((c, at) => (
            <tr key={c.id}>
              <td>
                <b>{c.title}</b>
                {c.case !== null && (
                  <div>
                    <Link className="underline" to={`/p/${props.project}/b/${props.build}/bench/${c.case}`}>
                      case {c.case}
                    </Link>
                  </div>
                )}
              </td>
              <td>{c.scope}</td>
              <td className="second">{c.reason}</td>
              <td className="num">{evidence(c.evidence)}</td>
              <td>
                {c.kept_by}
                <div className="num second">{when(c.kept)}</div>
              </td>
              <td>
                {asked === c.id ? (
                  <span key="sure" className="flex gap-1 justify-end">
                    <button type="button" className="btn btn-xs btn-error" onClick={() => drop.mutate(c.id)}>
                      Drop it
                    </button>
                    <button type="button" className="btn btn-xs" onClick={() => setAsked(undefined)}>
                      Leave it
                    </button>
                  </span>
                ) : (
                  <span key="may" className="flex gap-1 justify-end">
                    {at > 0 && (
                      <button
                        type="button"
                        className="btn btn-xs"
                        aria-label={`earlier: ${c.title}`}
                        disabled={order.isPending}
                        onClick={() => swap(at - 1)}
                      >
                        Earlier
                      </button>
                    )}
                    {at < props.changes.length - 1 && (
                      <button
                        type="button"
                        className="btn btn-xs"
                        aria-label={`later: ${c.title}`}
                        disabled={order.isPending}
                        onClick={() => swap(at)}
                      >
                        Later
                      </button>
                    )}
                    <button
                      type="button"
                      className="btn btn-xs"
                      aria-label={`drop ${c.title}`}
                      onClick={() => setAsked(c.id)}
                    >
                      Drop
                    </button>
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function evidence(e: Record<string, unknown>): string {
  const costs = Array.isArray(e.costs) ? (e.costs as { name: string; value: number; unit: string }[]) : [];
  const parts = [String(e.verdict ?? "")];
  if (typeof e.before === "number")
    parts.push(
      `${typeof e.measure === "string" ? e.measure : "score"} ${Number(e.before.toPrecision(4))} → ${Number((e.after as number).toPrecision(4))}`,
    );
  if (typeof e.changed_share === "number")
    parts.push(`${percent(e.changed_share)} of the frame changes visibly`);
  for (const c of costs) parts.push(costWords(c));
  return parts.filter(Boolean).join(" · ");
}
