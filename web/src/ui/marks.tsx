import type { ReactNode } from "react";

const FILL = { blocking: "var(--color-error)", visible: "var(--color-warning)", latent: "none" } as const;
const WORD = { blocking: "blocks the build", visible: "visible", latent: "latent" } as const;

/** What a mark is drawn in: its middle is 0, 0. */
function Around({ size, children }: { size: number; children: ReactNode }) {
  const r = size / 2 + 2;
  return (
    <svg width={2 * r} height={2 * r} viewBox={`${-r} ${-r} ${2 * r} ${2 * r}`} aria-hidden="true">
      {children}
    </svg>
  );
}

/** Only exposure is known: a thin outline, whatever the severity. */
export function Exposed({ size }: { size: number }) {
  return (
    <Around size={size}>
      <circle r={size / 2} fill="none" stroke="var(--color-secondary)" strokeWidth={1} />
    </Around>
  );
}

/** A tide mark: its shape is severity, its size measured impact. */
export function Mark({ severity, size }: { severity: keyof typeof FILL; size: number }) {
  const r = size / 2;
  return (
    <Around size={size}>
      {severity === "blocking" ? (
        <path d={`M0 ${-r}L${r} 0L0 ${r}L${-r} 0Z`} fill={FILL.blocking} />
      ) : severity === "visible" ? (
        <circle r={r} fill={FILL.visible} />
      ) : (
        <circle r={Math.max(r - 1, 2)} fill="none" stroke="var(--color-secondary)" strokeWidth={2} />
      )}
    </Around>
  );
}

export function Legend() {
  return (
    <ul className="flex gap-4 items-center">
      {(["blocking", "visible", "latent"] as const).map((s) => (
        <li key={s} className="flex gap-1 items-center">
          <Mark severity={s} size={12} /> {WORD[s]}
        </li>
      ))}
      <li className="flex gap-1 items-center">
        <Exposed size={12} /> shown, not measured
      </li>
      <li className="second">size = measured share of the frame</li>
    </ul>
  );
}
