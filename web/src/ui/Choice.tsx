import type { ReactNode } from "react";

/** One of several that can be gone to: underlined, and bold where one is. */
export function Choice({ here, go, children }: { here: boolean; go: () => void; children: ReactNode }) {
  return (
    <button type="button" className={`link ${here ? "font-semibold" : ""}`} aria-current={here} onClick={go}>
      {children}
    </button>
  );
}
