import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { buildPath, client, type Delivery, must, type Schemas } from "../../../api/client";
import { underWay, useDelivery } from "../../../api/queries";
import { useWrite } from "../../../api/writes";
import { JobBar } from "../../../ui/JobBar";
import { Page } from "../../../ui/Page";
import { usePlace } from "../../../ui/place";
import { Failed, Skeleton } from "../../../ui/state";
import { useTitleBlock } from "../../../ui/titleBlock";
import { EditTable } from "./EditTable";
import { Parts } from "./Parts";
import { Prints } from "./Prints";
import { type Answer, said } from "./words";

type Rehearsal = Schemas["RehearsalDocument"];

/** A new delivery, rehearsed: what becomes of every edit, over prints of both builds; then accepted, or let go. */
export function DeliverySheet() {
  const { project, build } = usePlace();
  const id = Number(useParams().delivery);
  const delivery = useDelivery(project, build, id);
  useTitleBlock(delivery.data ? { Delivery: delivery.data.scene, Over: `build ${build}` } : {});
  if (delivery.isPending)
    return (
      <Page>
        <Skeleton lines={10} />
      </Page>
    );
  if (!delivery.data)
    return (
      <Page>
        <Failed error={delivery.error} />
      </Page>
    );
  return (
    <Rehearsed
      key={delivery.data.result?.stamp ?? id}
      project={project}
      build={build}
      delivery={delivery.data}
    />
  );
}

function Rehearsed({ project, build, delivery }: { project: number; build: number; delivery: Delivery }) {
  const [answers, setAnswers] = useState<Record<string, Answer>>({});
  const result = delivery.result;
  const busy = underWay(delivery.job);
  return (
    <Page className="grid gap-6 lg:grid-cols-[1fr_330px] items-start">
      <div className="min-w-0">
        <p className="second">
          <Link className="link" to={`/p/${project}/b/${build}/intake`}>
            Intake of build {build}
          </Link>
        </p>
        <h1>{title(delivery)}</h1>
        {busy && <JobBar name="rehearsal" job={delivery.job} className="mt-2" />}
        {delivery.job.state === "failed" && <p role="alert">It was not rehearsed: {delivery.job.message}</p>}
        {result && (
          <>
            <EditTable
              edits={result.edits}
              answers={answers}
              answer={
                delivery.accepted
                  ? undefined
                  : (key, which) => setAnswers((before) => ({ ...before, [key]: which }))
              }
            />
            <Prints base={`${buildPath(project, build)}/deliveries/${delivery.id}`} result={result} />
          </>
        )}
      </div>
      <aside className="flex flex-col gap-6">
        <What project={project} build={build} delivery={delivery} answers={answers} />
        {result && <Parts result={result} />}
        {result && <Stale result={result} />}
      </aside>
    </Page>
  );
}

function title(delivery: Delivery): string {
  if (delivery.accepted) return `${delivery.scene}, accepted as build ${delivery.accepted}`;
  if (!delivery.result) return `${delivery.scene} is being rehearsed`;
  const told = said(delivery.result.edits);
  return told
    ? `${delivery.scene}: ${told}`
    : `${delivery.scene}: nothing was kept, so nothing is carried over`;
}

/** What can be done now: rehearse with answers, accept, let go. */
function What({
  project,
  build,
  delivery,
  answers,
}: {
  project: number;
  build: number;
  delivery: Delivery;
  answers: Record<string, Answer>;
}) {
  const go = useNavigate();
  const path = { project_id: project, number: build, delivery_id: delivery.id };
  const given = Object.keys(answers).length;
  const again = useWrite(() =>
    must(
      client.POST("/api/projects/{project_id}/builds/{number}/deliveries/{delivery_id}/answers", {
        params: { path },
        body: { answers },
      }),
    ),
  );
  const accept = useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/deliveries/{delivery_id}/accept", {
          params: { path, header: { "If-Match": delivery.result?.stamp ?? "" } },
        }),
      ),
    (made) => go(`/p/${project}/b/${made.number}/intake`),
  );
  const letGo = useWrite(
    () =>
      must(
        client.DELETE("/api/projects/{project_id}/builds/{number}/deliveries/{delivery_id}", {
          params: { path },
        }),
      ),
    () => go(`/p/${project}/b/${build}/intake`),
  );
  const result = delivery.result;
  const busy = underWay(delivery.job) || again.isPending || accept.isPending;
  const open = (result?.unanswered ?? []).filter((key) => !(key in answers));
  if (delivery.accepted)
    return (
      <p>
        <Link className="btn btn-sm btn-primary" to={`/p/${project}/b/${delivery.accepted}/intake`}>
          Open build {delivery.accepted}
        </Link>
      </p>
    );
  return (
    <section aria-label="Decision">
      <h2>Decide</h2>
      <p className="second mt-1">{state(delivery, open.length, given)}</p>
      <div className="flex flex-col gap-2 mt-2 items-start">
        {result && (given > 0 || delivery.behind) && (
          <button
            type="button"
            className="btn btn-sm btn-primary"
            disabled={busy}
            onClick={() => again.mutate(undefined)}
          >
            {given > 0 ? `Rehearse with ${given} ${given === 1 ? "answer" : "answers"}` : "Rehearse again"}
          </button>
        )}
        <button
          type="button"
          className={`btn btn-sm ${given > 0 || delivery.behind ? "" : "btn-primary"}`}
          disabled={busy || !result || result.unanswered.length > 0 || given > 0 || delivery.behind}
          onClick={() => accept.mutate(undefined)}
        >
          Accept as a build
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={accept.isPending}
          onClick={() => letGo.mutate(undefined)}
        >
          Let it go
        </button>
      </div>
      <Failed error={again.error ?? accept.error ?? letGo.error} />
    </section>
  );
}

function state(delivery: Delivery, open: number, given: number): string {
  if (!delivery.result) return "It can be accepted once it is rehearsed.";
  if (delivery.behind) return "The ledger went on since: rehearse it again.";
  if (open > 0) return `${open} ${open === 1 ? "edit is" : "edits are"} still asked.`;
  if (given > 0) return "All is answered; the frames are not drawn with your answers yet.";
  return "Acceptance makes exactly the build that is shown: its settings, ledger, captures and cases.";
}

function Stale({ result }: { result: Rehearsal }) {
  return (
    <section aria-label="To be made again">
      <h2>To be made again</h2>
      {result.stale.length === 0 ? (
        <p className="second">Nothing that was baked or captured is stale.</p>
      ) : (
        <ul>
          {result.stale.map((s) => (
            <li key={s.what} className="border-b hair py-1">
              {s.what} <span className="second">{s.why}</span>
            </li>
          ))}
        </ul>
      )}
      {result.notes.length > 0 && (
        <>
          <h2 className="mt-4">Could not follow, or left out</h2>
          <ul>
            {result.notes.map((n) => (
              <li key={n} className="border-b hair py-1 break-words">
                {n}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
