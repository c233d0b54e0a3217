import type { FindingDocument } from "../../api/client";
import { figure, percent } from "../../ui/words";
import type { Caster, Section } from "./queries";

export const TECHNIQUE: Record<string, string> = {
  cascades: "cascades",
  paged: "a paged map",
  rays: "the ray tier",
};

const FALSE_SEEN = 0.02; // of the frame, before the title says so

/** The defect in plain words: the caster that lacks most of its shadow, and by what. */
export function title(section: Section): string {
  const worst = section.casters.find((c) => c.lost_at !== null);
  const dark = share(section, "false");
  if (!worst && dark > FALSE_SEEN)
    return `${percent(dark, 1)} of the frame lacks light of ${section.light} that is due`;
  if (!worst) return section.casters.length ? "Every shadow that is due is drawn" : "No shadow is due here";
  const margin = worst.margin_m;
  const where = worst.lost_at === worst.ended_by && margin !== null && margin < 0 && (worst.ends_m ?? 0) > 0;
  return where
    ? `${worst.name} stands ${figure(Number((-margin).toPrecision(2)))} m beyond its shadow`
    : `${worst.name} throws no shadow`;
}

/** What ends a caster's bar, in a few words. */
export function ending(c: Caster): string {
  if (c.ends_m === null) return "at any distance";
  const at = c.ends_m > 0 ? `${figure(Number(c.ends_m.toPrecision(3)))} m` : "never drawn";
  const by = `${at}: ${c.ended_by}`;
  if (c.margin_m === null || c.margin_m >= 0 || c.ends_m === 0) return by;
  return `${by}, ${figure(Number((-c.margin_m).toPrecision(2)))} m beyond`;
}

const SHORT: Record<string, string> = {
  "shadows are on": "shadows are off",
  "the light casts": "the light casts nothing",
  "its shader is in the shadow pass": "no shadow pass",
  "a face of it turned to the light is drawn": "its back casts nothing",
  "it survives the technique's cull": "left out by the cull",
  "a map serves this depth": "reach",
  "texels' centres meet a caster": "thinner than the filter",
  "the bias is below the gap": "passed over by the bias",
};

/** The same beside a bar. */
export function inShort(c: Caster): string {
  const words = SHORT[c.ended_by] ?? c.ended_by;
  const margin = c.margin_m;
  if (margin === null || margin >= 0 || (c.ends_m ?? 0) === 0) return words;
  const off = `${figure(Number((-margin).toPrecision(2)))} m beyond`;
  return words === "reach" ? `${off} reach` : words.startsWith("left out") ? `${off}: ${words}` : words;
}

/** The sheet as it shows what a finding is about: from where it spoils most, at its first subject. */
export function reachLink(project: number, build: number, finding: FindingDocument): string {
  const from = Object.entries(finding.pixels).sort((a, b) => b[1] - a[1])[0]?.[0];
  const light = finding.facts.light;
  const query = new URLSearchParams();
  if (from) query.set("from", from);
  if (finding.subjects[0]) query.set("caster", finding.subjects[0]);
  if (typeof light === "string") query.set("light", light);
  return `/p/${project}/b/${build}/shadow-reach?${query}`;
}

export const share = (section: Section, name: string): number => {
  const total = Object.values(section.classes).reduce((a, b) => a + b, 0);
  return total ? (section.classes[name] ?? 0) / total : 0;
};
