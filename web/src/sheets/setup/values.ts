import type { Schemas } from "../../api/client";
import { figure } from "../../ui/words";

export type Form = Schemas["Form"];

/** A value as people write it. */
export function show(v: unknown): string {
  if (v === undefined) return "";
  if (v === null) return "none";
  if (typeof v === "boolean") return v ? "yes" : "no";
  if (typeof v === "number") return Number.isInteger(v) ? String(v) : figure(v);
  return Array.isArray(v)
    ? v.map((part) => (typeof part === "number" ? String(part) : show(part))).join(" ")
    : String(v);
}

/** The same so that it can be edited: nothing is rounded. */
export const written = (v: unknown): string => (typeof v === "number" ? String(v) : show(v));

/** The value that a text stands for, by how the field's values are written. A text that is none of these is sent as it is, and refused
 *  in the server's words. */
export function read(text: string, form: Form): unknown {
  const words = text.trim();
  if (form.optional && (words === "none" || words === "")) return null;
  if (form.kind === "yes_no") return words === "yes" ? true : words === "no" ? false : words;
  if (form.kind === "number") return words !== "" && Number.isFinite(Number(words)) ? Number(words) : words;
  if (form.kind === "numbers") {
    const parts = words.split(/[\s,;]+/).map(Number);
    return parts.every(Number.isFinite) ? parts : words;
  }
  return words;
}

/** What may be written, in words. */
export function mayBe(form: Form): string {
  const own = form.kind === "choice" || form.kind === "yes_no" ? "" : form.limits;
  return [own, form.optional ? "or none" : ""].filter(Boolean).join(" ");
}

/** Meanings speak of null, as the document has it; people write none. */
export const meaning = (text: string) => text.replace(/\bnull\b/g, "none");
