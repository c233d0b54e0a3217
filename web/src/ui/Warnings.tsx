/** What a remedy warns of, and what it newly brings. */
export function Warnings({ of }: { of: { warnings: string[]; new_findings: string[] } }) {
  return (
    <>
      {of.warnings.map((w) => (
        <span key={w} className="text-warning block text-[11px] leading-tight">
          {w}
        </span>
      ))}
      {of.new_findings.map((w) => (
        <span key={w} className="text-error block text-[11px] leading-tight">
          new: {w}
        </span>
      ))}
    </>
  );
}
