import type { ReactNode } from "react";

/** Lines that stand in for what is loading. */
export function Skeleton({ lines = 4 }: { lines?: number }) {
  return (
    <div role="status" aria-label="loading" className="max-w-xl">
      {[92, 79, 66, 84, 53, 71, 60, 45, 76].slice(0, lines).map((width) => (
        <div key={width} className="skeleton-line" style={{ width: `${width}%` }} />
      ))}
    </div>
  );
}

/** What failed, and what to do. */
export function Failed({ error, children }: { error: unknown; children?: ReactNode }) {
  if (!error) return null;
  return (
    <div role="alert" className="border border-error border-l-4 px-3 py-2 my-2 text-error bg-base-100">
      <b>{error instanceof Error ? error.message : String(error)}</b>
      {children}
    </div>
  );
}

/** An empty sheet says what the next step is. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="border border-dashed border-base-300 p-6 max-w-2xl">
      <h2>{title}</h2>
      <div className="second mt-1">{children}</div>
    </div>
  );
}
