import type { Case } from "../../api/client";

export const STAGES = ["symptom", "spot", "suspects", "trials", "fix", "proof"] as const;
export type StageName = (typeof STAGES)[number];

/** What each stage has come to, in one line. */
function result(c: Case, stage: StageName): string {
  const clears = c.trials.filter((t) => String(t.document.verdict).startsWith("clears it")).length;
  switch (stage) {
    case "symptom":
      return c.symptom;
    case "spot":
      return c.spot
        ? `${c.lineup?.subject ?? c.subject ?? "dragged"}, ${c.spot[2]} × ${c.spot[3]} px`
        : "drag one on the picture";
    case "suspects":
      return c.lineup
        ? `${(c.lineup.passes_that_wrote as string[]).length} passes wrote it`
        : "the line-up finds them";
    case "trials":
      return c.lineup ? `${c.trials.length} run · ${clears} clear it` : "none run yet";
    case "fix":
      return c.kept.length ? `${c.kept.length} kept` : "nothing kept yet";
    default:
      if (!c.proof) return "not proved yet";
      if (c.proof.job.state === "running" || c.proof.job.state === "waiting")
        return `${Math.round(c.proof.job.progress * 100)} %`;
      if (!c.proof.result) return c.proof.job.state;
      return `${c.proof.result.proved ? "proved" : "not proved"}${c.proof.fresh ? "" : ", stale"}`;
  }
}

/** A plumb line down which a case descends; the weight hangs at the present stage. */
export function SoundingLine({
  of,
  chosen,
  choose,
}: {
  of: Case;
  chosen: StageName;
  choose: (s: StageName) => void;
}) {
  const now = of.stage === "trials" ? 3 : STAGES.indexOf(of.stage as StageName);
  return (
    <nav
      aria-label="Sounding line"
      className="relative border-r hair bg-base-200 pt-[18px] pl-[20px] overflow-hidden"
    >
      <div
        className="absolute left-[30px] top-[30px] w-[2px] bg-base-content"
        style={{ height: now * 74 + 34 }}
      />
      <svg
        className="absolute left-[24px]"
        style={{ top: now * 74 + 62 }}
        width="14"
        height="20"
        aria-hidden="true"
      >
        <path d="M7 0L14 7L11 20H3L0 7Z" fill="var(--color-accent)" />
      </svg>
      <ol>
        {STAGES.map((stage, i) => (
          <li key={stage} className="relative h-[74px] pl-[28px]">
            <span className="absolute left-[5px] top-[7px] w-[12px] h-[2px] bg-base-content" />
            <button
              type="button"
              aria-current={stage === chosen ? "step" : undefined}
              className={`block text-left capitalize font-bold ${stage === chosen ? "underline underline-offset-4 decoration-2" : ""} ${i > now + 1 ? "second" : ""}`}
              onClick={() => choose(stage)}
            >
              {stage}
            </button>
            <span className="second block text-[11px] leading-tight w-[98px]">{result(of, stage)}</span>
          </li>
        ))}
      </ol>
    </nav>
  );
}
