import type { ReactNode } from "react";

/** The frame of a sheet: its main part, with the margin that all have. */
export function Page({ className = "", children }: { className?: string; children: ReactNode }) {
  return <main className={`p-[22px] ${className}`}>{children}</main>;
}
