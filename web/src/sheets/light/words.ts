import type { FindingDocument } from "../../api/client";
import { figure } from "../../ui/words";
import type { Account, Row } from "./queries";

/** The sheet as it shows what a finding is about: from where it spoils most. */
export function lightLink(project: number, build: number, finding: FindingDocument): string {
  const from = Object.entries(finding.pixels).sort((a, b) => b[1] - a[1])[0]?.[0];
  return `/p/${project}/b/${build}/light${from ? `?from=${encodeURIComponent(from)}` : ""}`;
}

export const nits = (v: number) => `${figure(Number(v.toPrecision(3)))} nit`;

export const seconds = (t: number) => `${t.toFixed(2)} s`;

const TOLD = 5e-4; // of all that is due: less is nought

/** Nits beside all that is due. */
export const nitsOf = (v: number, due: number) => nits(Math.abs(v) < TOLD * due ? 0 : v);

/** Stops with their sign; what has none left of it says so. */
export function stops(v: number | null): string {
  if (v === null) return "all of it";
  if (Math.abs(v) < 0.005) return "0.00 stops";
  return `${v < 0 ? "−" : "+"}${Math.abs(v).toFixed(2)} stops`;
}

/** Rows beyond floor and noise, the largest first. */
export const told = (a: Account): Row[] =>
  a.rows.filter((r) => r.shown).sort((x, y) => Math.abs(y.luminance) - Math.abs(x.luminance));

const NEARLY = 0.06; // stops: three times what the two differ by where they have to agree

/** What is wrong with the light, in plain words. */
export function title(a: Account): string {
  const where = a.region ? `A part of ${a.viewpoint}` : a.viewpoint;
  const worst = told(a)[0];
  if (!worst) return `${where} shows the light that is due`;
  const off = a.stops ?? 0;
  if (Math.abs(off) < NEARLY) return `${where} is as bright as is due, but not by its ${worst.part}`;
  return `${where} is ${Math.abs(off).toFixed(2)} stops too ${off < 0 ? "dark" : "bright"}, most of it in ${worst.part}`;
}

/** How good the reference is, and what better would take. */
export function noiseWords(a: Account): string {
  const n = a.noise;
  if (n.value === null || n.samples < 2) return "noise is not told by one sample";
  const now = `noise ${(n.value * 100).toPrecision(2)} % at ${figure(n.samples)} samples`;
  if (n.refused) return `${now} · ${n.refused}`;
  return `${now} · 2 % take ${figure(n.at_2_percent)} [prediction]`;
}
