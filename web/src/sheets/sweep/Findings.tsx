import { Link, useNavigate } from "react-router";
import type { FindingDocument } from "../../api/client";
import { buildPath, client, must, type Schemas, type Sweep } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Mark } from "../../ui/marks";
import { Picture } from "../../ui/Picture";
import { Empty, Failed } from "../../ui/state";
import { percent, withUnit } from "../../ui/words";
import { orderLink } from "../draworder/words";
import { lightLink } from "../light/words";
import { reachLink } from "../shadowreach/words";

export function Findings({ project, build, sweep }: { project: number; build: number; sweep: Sweep }) {
  if (!sweep.items.length && !sweep.gone.length)
    return (
      <div className="mt-5">
        <Empty title="Clean">No defect was found from any play viewpoint.</Empty>
      </div>
    );
  return (
    <>
      <ol className="mt-4" aria-label="Findings by impact">
        {sweep.items.map((f) => (
          <Line key={f.id} project={project} build={build} finding={f} />
        ))}
      </ol>
      {sweep.gone.length > 0 && (
        <section className="mt-4">
          <h2>Gone since the sweep before</h2>
          <ul>
            {(sweep.gone as { code: string; title: string }[]).map((g) => (
              <li key={g.code + g.title} className="text-success">
                ✓ {g.title} <code className="second">{g.code}</code>
              </li>
            ))}
          </ul>
        </section>
      )}
      {sweep.left_out.length > 0 && (
        <details className="mt-4">
          <summary>{sweep.left_out.length} notes on what was left out</summary>
          <ul className="second">
            {sweep.left_out.map((n) => (
              <li key={n}>{n}</li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

function Line({
  project,
  build,
  finding,
}: {
  project: number;
  build: number;
  finding: Schemas["FindingOut"];
}) {
  const d = finding.document;
  const go = useNavigate();
  const open = useWrite(
    () =>
      must(
        client.POST("/api/projects/{project_id}/builds/{number}/cases", {
          params: { path: { project_id: project, number: build } },
          body: { finding: finding.id },
        }),
      ),
    (c) => go(`/p/${project}/b/${build}/bench/${c.number}`),
  );
  const first = d.evidence.find((e) => e.limit !== null) ?? d.evidence[0];
  const best = d.remedies.find((r) => r.verdict === "cures");
  return (
    <li className="grid grid-cols-[152px_96px_1fr_260px_110px] gap-4 py-2 border-b hair items-center">
      {finding.has_picture ? (
        <Picture
          className="w-[152px] h-[64px] object-cover"
          src={`${buildPath(project, build)}/findings/${finding.id}/picture`}
          alt="evidence"
        />
      ) : (
        <div className="w-[152px] h-[64px] stage" />
      )}
      <div className="text-right">
        <div className="font-mono text-[18px]">{percent(d.impact.share)}</div>
        <div className="second">
          {d.impact.kind === "measured"
            ? "of pixels, measured"
            : d.impact.kind === "exposed"
              ? "of pixels, exposed"
              : "not seen"}
        </div>
      </div>
      <div className="min-w-0">
        <div className="flex items-center gap-2">
          <Mark severity={d.severity} size={11} />
          <b className="text-[14px]">{d.title}</b>
          {finding.standing === "new" && (
            <span className="border border-accent text-accent px-1 num">new</span>
          )}
          {finding.standing === "still there" && (
            <span className="border border-base-300 second px-1 num">still there</span>
          )}
        </div>
        <div className="second">
          {d.what}. {best ? `Remedy: ${best.title}.` : "No remedy cures it yet."}
        </div>
        <Hidden seen={d.seen_in} />
        {d.sheet === "shadow-reach" && (
          <Link className="underline" to={reachLink(project, build, d)}>
            Shadow reach
          </Link>
        )}
        {d.sheet === "draw-order" && (
          <Link className="underline" to={orderLink(project, build, d)}>
            Draw order
          </Link>
        )}
        {d.sheet === "light" && (
          <Link className="underline" to={lightLink(project, build, d)}>
            Light and colour
          </Link>
        )}
        <Failed error={open.error} />
      </div>
      <div className="num">
        {first && (
          <>
            {first.measure}: {withUnit(first.value, first.unit)}
            <br />
          </>
        )}
        <span className="second">{d.code}</span>
      </div>
      {finding.case !== null ? (
        <Link className="btn btn-sm" to={`/p/${project}/b/${build}/bench/${finding.case}`}>
          Open case {finding.case}
        </Link>
      ) : (
        <button
          type="button"
          className="btn btn-sm"
          disabled={open.isPending}
          onClick={() => open.mutate(undefined)}
        >
          Open case
        </button>
      )}
    </li>
  );
}

function Hidden({ seen }: { seen: FindingDocument["seen_in"] }) {
  const hidden = seen.filter((s) => !s.seen);
  if (!hidden.length) return null;
  return (
    <div className="text-accent">
      {hidden.map((s) => (
        <span key={s.role}>
          Hidden in role {s.role}
          {s.leaf ? `: ${s.leaf} is ${s.role_value} there, ${s.play_value} in play. ` : ". "}
        </span>
      ))}
    </div>
  );
}
