import type { FindingDocument } from "../../api/client";
import { figure } from "../../ui/words";
import type { EdgesOf, FrameOrder, GlassOf, Pop, Walked } from "./queries";

/** The sheet as it shows what a finding is about: from where it spoils most. */
export function orderLink(project: number, build: number, finding: FindingDocument): string {
  const from = Object.entries(finding.pixels).sort((a, b) => b[1] - a[1])[0]?.[0];
  const asked = new URLSearchParams({
    ...(from ? { from } : {}),
    ...(MEASURED.has(finding.code) ? { measure: "1" } : {}),
  });
  return `/p/${project}/b/${build}/draw-order${asked.size ? `?${asked}` : ""}`;
}

// Findings of what is measured on demand.
const MEASURED = new Set(["blend.fringe", "blend.wrong-kind", "blend.coverage", "blend.overdraw"]);

const KEYS: Record<string, string> = {
  view_depth: "depth along the view",
  range: "range to the eye",
  direction: "a fixed direction",
};
const POINTS: Record<string, string> = {
  bounds_centre: "the middle of bounds",
  node_origin: "node origins",
  nearest: "the nearest point of bounds",
};

/** What blended things are sorted by. */
export const sortedBy = (o: { method: string; key: string; point: string }) =>
  o.method !== "sorted"
    ? `put together as ${o.method}, without an order`
    : `sorted by ${KEYS[o.key] ?? o.key}, of ${POINTS[o.point] ?? o.point}`;

/** Pops that one sees. */
export const visible = (w: Walked): Pop[] => w.pops.filter((p) => p.turn !== "harmless");

/** How many pops one sees. */
export function popCount(w: Walked): string {
  const count = visible(w).length;
  return count === 0 ? "no pop" : count === 1 ? "one pop" : `${count} pops`;
}

/** Where the eye is at a pop: by the axis that it goes along; by its heading where it only turns. */
export function placeOf(w: Walked, pop: Pop): string {
  const k = Math.min(Math.max(nearest(w, pop.t_s), 1), w.eyes.length - 1);
  const [a, b] = [w.eyes[k - 1] ?? [], w.eyes[k] ?? []];
  const way = [0, 1, 2].map((i) => Math.abs((b[i] ?? 0) - (a[i] ?? 0)));
  const axis = way.indexOf(Math.max(...way));
  if ((way[axis] ?? 0) > 1e-6) return `${"xyz"[axis]} = ${metres(pop.eye[axis] ?? 0)}`;
  const [x = 0, , z = 0] = w.forward[k] ?? [];
  return `a heading of ${((Math.atan2(x, -z) * 180) / Math.PI).toFixed(2)}°`;
}

export const metres = (v: number) => `${v < 0 ? "−" : ""}${Math.abs(v).toFixed(3)} m`;

/** The moment nearest to a time. */
export function nearest(w: Walked, t: number): number {
  let near = 0;
  for (const [k, at] of w.t_s.entries()) if (Math.abs(at - t) < Math.abs((w.t_s[near] ?? 0) - t)) near = k;
  return near;
}

/** Pixels from which something counts, as the sweep has it. */
const LEAST = 16;

/** Pixels whose layers are out of order, by depth or among what lies at one depth. */
export const offPx = (order: FrameOrder) =>
  order.off_px + order.level.reduce((sum, two) => sum + (two.stages ? two.pixels : 0), 0);

/** What is wrong, in plain words: the largest pop, else the worst pair on the way or at the viewpoint. */
export function title(
  order: FrameOrder,
  walked: Walked | undefined,
  glass?: GlassOf,
  rim?: EdgesOf["materials"][number],
): string {
  const pop = walked && [...visible(walked)].sort((a, b) => b.pixels - a.pixels)[0];
  if (pop) return `${other(pop)} pops at ${placeOf(walked, pop)}`;
  const pair = order.pairs[0];
  if (pair && pair.early === pair.late)
    return `Faces of ${pair.early} are drawn in the wrong order at ${order.viewpoint}`;
  const mist = pair && order.volumes.find((v) => v === pair.early || v === pair.late);
  if (pair && mist)
    return `${mist} is drawn as one thing, wrongly for ${pair.early === mist ? pair.late : pair.early}, at ${order.viewpoint}`;
  if (pair) return `${pair.late} is drawn over ${pair.early}, which is nearer, at ${order.viewpoint}`;
  const hidden = order.hidden.find((c) => c.pixels >= LEAST);
  if (hidden)
    return `${hidden.writer} hides ${hidden.hidden.join(" and ")} by its depth at ${order.viewpoint}`;
  const staged = order.level.find((two) => two.stages && two.pixels >= LEAST);
  if (staged)
    return `${staged.second} shows over ${staged.first}, which stands before it, at ${order.viewpoint}`;
  const off = walked?.looks.flatMap((k) => k.pairs).sort((a, b) => b.pixels - a.pixels)[0];
  if (off) return `${off.late} is drawn over ${off.early}, which is nearer, along ${walked?.move}`;
  const lost = glass?.lost.find((one) => one.pixels > 0);
  if (lost?.how === "drawn over it") return `${lost.drawable} is drawn over ${lost.panes.join(" and ")}`;
  if (lost && lost.panes.length === 1 && lost.panes[0] === lost.drawable)
    return `The far side of ${lost.drawable} is not seen through its near side`;
  if (lost) return `${lost.drawable} is not seen through ${lost.panes.join(" and ")}`;
  const shut = glass?.shut[0];
  if (shut) return `${shut.material} lets no light through: ${shut.broken.join(" and ")}`;
  if (rim && rim.misread_px > 0) return `Colours of ${rim.material} are taken for what they are not`;
  if (rim) return `${rim.material} shows a rim at ${order.viewpoint}`;
  if (order.method !== "sorted" && order.off_px > 0)
    return `Layers put together as ${order.method} are off at ${order.viewpoint}`;
  if (order.order.length === 0 && glass?.panes.length)
    return `Nothing is lost behind glass at ${order.viewpoint}`;
  if (order.order.length === 0) return `Nothing blended is in sight at ${order.viewpoint}`;
  return walked ? `Nothing pops along ${walked.move}` : `${order.viewpoint} is drawn in its true order`;
}

/** What one sees jump: the farther of the two. */
export const other = (p: Pop) => (p.off_before <= p.off_after ? p.first : p.second);

export const pops = (p: Pop) => `${figure(p.pixels)} px · ΔE ${p.worst.toFixed(1)} · ${p.turn}`;

/** The pop that one sees most of. */
export const largest = (pops: { pixels: number }[]) =>
  pops.reduce((most, p, k) => (p.pixels > (pops[most]?.pixels ?? -1) ? k : most), 0);
