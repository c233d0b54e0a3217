import { Link } from "react-router";
import type { Case, FindingDocument, ProofResult, TrialDocument } from "../../api/client";
import { JobBar } from "../../ui/JobBar";
import { Warnings } from "../../ui/Warnings";
import { costWords, percent, withUnit } from "../../ui/words";

/** What the chosen change is, why it was tried, and what it costs. */
export function Chosen({ trial }: { trial: TrialDocument }) {
  return (
    <div className="border border-accent border-l-[5px] bg-base-100 px-3 py-2 mt-3">
      <b>{trial.title}</b>
      <p className="second mt-1">
        {trial.because}; {trial.predicts}.{trial.scope ? ` Scope: ${trial.scope}.` : ""}
        {trial.also_changed_share > 0 &&
          ` Also changes ${percent(trial.also_changed_share, 1)} that shares the cause.`}
        {trial.collateral_share > 0 && ` Changes ${percent(trial.collateral_share, 1)} elsewhere (preview).`}
        {trial.new_findings.map((w) => ` New: ${w}.`)}
        {trial.surprise && " A surprise: it made the symptom worse."}
      </p>
    </div>
  );
}

/** Remedies of the finding a case was opened on, as the sweep judged them. */
export function Remedies(props: { of: FindingDocument; chosen: number | null; choose: (i: number) => void }) {
  return (
    <section className="mt-3">
      <h2>Remedies from the sweep</h2>
      <ul>
        {props.of.remedies.map((r, i) => (
          <li key={r.title} className="border-b hair py-1">
            <button
              type="button"
              aria-pressed={props.chosen === i}
              className={`text-left w-full ${props.chosen === i ? "font-bold" : ""}`}
              onClick={() => props.choose(i)}
            >
              {r.title} <span className={r.verdict === "cures" ? "text-success" : "second"}>{r.verdict}</span>
              <span className="num second block">{r.costs.map(costWords).join(" · ")}</span>
              <Warnings of={r} />
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

export function EvidenceList({ of }: { of: FindingDocument }) {
  return (
    <section className="mt-3">
      <h2>Measured</h2>
      <table className="sheet-table">
        <tbody>
          {of.evidence.map((e) => (
            <tr key={e.measure}>
              <td>
                {e.measure}
                {e.predicted && <span className="second"> (a prediction)</span>}
              </td>
              <td className={`num text-right ${e.beyond ? "text-error font-bold" : ""}`}>
                {withUnit(e.value, e.unit)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

type KeepOf = { of: Case; mayKeep: boolean; keep: () => void; mayProve: boolean; prove: () => void };

/** The two buttons that end the work on a case, and how far its proof has come. */
export function KeepAndProve({ of, mayKeep, keep, mayProve, prove }: KeepOf) {
  const job = of.proof?.job;
  return (
    <>
      <div className="flex gap-2 mt-3 flex-wrap">
        <button type="button" className="btn btn-sm btn-primary" disabled={!mayKeep} onClick={keep}>
          Keep this fix<kbd>K</kbd>
        </button>
        <button type="button" className="btn btn-sm" disabled={!of.kept.length || !mayProve} onClick={prove}>
          Prove it everywhere
        </button>
      </div>
      {job && ["running", "waiting"].includes(job.state) && <JobBar name="proof" job={job} />}
      {of.proof?.result && <ProofTable of={of.proof.result} />}
    </>
  );
}

export function Kept({ of, project, build }: { of: Case; project: number; build: number }) {
  return (
    <section className="mt-3">
      <h2>Kept</h2>
      {of.kept.length === 0 && <p className="second">Choose a trial or a remedy and keep it.</p>}
      <ul>
        {of.kept.map((c) => (
          <li key={c.id} className="border-b hair py-1">
            <b>{c.title}</b>{" "}
            <span className="second">
              {c.scope}, by {c.kept_by}
            </span>
          </li>
        ))}
      </ul>
      {of.kept.length > 0 && (
        <Link className="underline" to={`/p/${project}/b/${build}/ledger`}>
          See the ledger and the patch
        </Link>
      )}
    </section>
  );
}

/** A proof: every viewpoint at full size, on the cause and elsewhere, siblings with pixels each. */
export function ProofTable({ of }: { of: ProofResult }) {
  return (
    <section className="mt-3" aria-label="Proof">
      <p className={of.proved ? "text-success font-bold" : "text-error font-bold"}>
        {of.proved ? "✓ Proved: " : "✗ Not proved: "}
        {of.why}
      </p>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>Viewpoint</th>
            <th className="text-right!">On the cause</th>
            <th className="text-right!">Elsewhere</th>
          </tr>
        </thead>
        <tbody>
          {of.views.map((v) => (
            <tr key={v.viewpoint}>
              <td>
                {v.viewpoint} <span className="second">{v.role}</span>
                {Object.entries(v.siblings).map(([name, pixels]) => (
                  <span key={name} className="num second block">
                    {name}: {pixels} px
                  </span>
                ))}
              </td>
              <td className="num text-right">{percent(v.on_cause)}</td>
              <td className="num text-right">
                {percent(v.elsewhere)}
                {v.shadow_edges > 0.0005 && (
                  <span className="second block">+ {percent(v.shadow_edges)} shadows, none less true</span>
                )}
                {v.light_truer > 0.0005 && (
                  <span className="second block">+ {percent(v.light_truer)} light from around, truer</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {of.moves.map((m) => (
        <p key={`${m.move} ${m.surface}`} className="second mt-1">
          Along {m.move}, {m.surface} drifts by <span className="num">{m.after.toFixed(2)}</span> stops,{" "}
          <span className="num">{m.before.toFixed(2)}</span> before [prediction]
        </p>
      ))}
      {of.ended.length > 0 && <p className="second mt-1">Ends: {of.ended.join("; ")}</p>}
      {of.made.length > 0 && <p className="text-error mt-1">Makes: {of.made.join("; ")}</p>}
    </section>
  );
}
