import type { Caster, Section, Tier } from "./queries";

/** Distance along the section on a log axis: from `low` to `high` metres over `width` px. */
export type Axis = { low: number; high: number; width: number };

const ROOM = 1.3; // the axis ends this much beyond the farthest thing on it

export function axisOf(section: Section, width: number): Axis {
  const ends = section.tiers.flatMap((t) => (t.far_m === null ? [] : [t.far_m]));
  const far = section.casters.flatMap((c) => [c.range_m, c.far_m]);
  return { low: 1, high: Math.max(20, ...ends, ...far) * ROOM, width };
}

export const along = (axis: Axis, metres: number) =>
  (Math.log(Math.max(metres, axis.low) / axis.low) / Math.log(axis.high / axis.low)) * axis.width;

export const metresAt = (axis: Axis, x: number) =>
  axis.low * (axis.high / axis.low) ** Math.min(Math.max(x / axis.width, 0), 1);

/** Round distances to write beside an axis: 1, 2, 5 of each power of ten. */
export function ticks(axis: Axis): number[] {
  const found: number[] = [];
  for (let power = 10 ** Math.floor(Math.log10(axis.low)); power <= axis.high; power *= 10)
    for (const k of [1, 2, 5]) if (k * power >= axis.low && k * power <= axis.high) found.push(k * power);
  return found;
}

/** Where one tier hands over to the next, and where the last ends. */
export const joins = (section: Section): number[] =>
  section.tiers.flatMap((t) => (t.far_m === null ? [] : [t.far_m])).sort((a, b) => a - b);

export const tierAt = (section: Section, metres: number): Tier | undefined =>
  section.tiers.find((t) => metres >= t.near_m && (t.far_m === null || metres < t.far_m));

/** What a distance has: its texel and how many pixels of the frame that is wide. */
export function readingAt(section: Section, metres: number) {
  const tier = tierAt(section, metres);
  return { tier, texelPx: tier ? tier.texel_m / (section.pixel_m * metres) : null };
}

export const beyond = (c: Caster) => c.margin_m !== null && c.margin_m < 0;
