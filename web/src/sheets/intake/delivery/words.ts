export type Answer = "before" | "yours" | "delivered";

/** What became of edits, in the order one wants to know it. */
export const FATES = ["asked", "lost", "adapted", "moved", "kept", "delivered"] as const;

/** "2 asked, 1 lost ..." of edits; what was asked and is answered is told as that. */
export function said(edits: readonly { fate: string; answer: unknown }[]): string {
  const word = (e: { fate: string; answer: unknown }) =>
    e.fate === "asked" && e.answer ? "answered" : e.fate === "delivered" ? "delivered alike" : e.fate;
  return ["asked", "answered", ...FATES.slice(1, -1), "delivered alike"]
    .map((told) => [edits.filter((e) => word(e) === told).length, told] as const)
    .filter(([count]) => count > 0)
    .map(([count, told]) => `${count} ${told}`)
    .join(", ");
}

/** A leaf's value on one line. */
export function shown(value: unknown): string {
  if (value === null || value === undefined) return "–";
  if (typeof value === "number") return String(Number(value.toPrecision(6)));
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (Array.isArray(value)) return value.map(shown).join(", ") || "none";
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

export const KEYS: Record<string, Answer> = { k: "yours", d: "delivered", b: "before" };
