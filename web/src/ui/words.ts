const THIN = "\u202f";

/** A number for people: four figures, thin-space thousands. */
export function figure(value: number | null | undefined): string {
  if (value === null || value === undefined) return "∞";
  if (Math.abs(value) >= 1000) return Math.round(value).toLocaleString("en-GB").replaceAll(",", THIN);
  return String(Number(value.toPrecision(4)));
}

/** So many of a kind: 1 drawable, 2 drawables. */
export const counted = (count: number, of: string) => `${figure(count)} ${of}${count === 1 ? "" : "s"}`;

export const withUnit = (value: number | null, unit: string) =>
  unit === "bytes" && value !== null
    ? bytes(value)
    : `${figure(value)}${unit && unit !== "-" ? THIN + unit : ""}`;

/** A cost in words: "memory 2 KiB", "4 triangles". */
export const costWords = (c: { name: string; value: number | null; unit: string }) =>
  c.name === c.unit ? withUnit(c.value, c.unit) : `${c.name} ${withUnit(c.value, c.unit)}`;

export function percent(share: number, digits = 2): string {
  return `${(share * 100).toFixed(digits)}${THIN}%`;
}

/** Red, green and blue shares in words; one where they are the same. */
export function shares(rgb: number[]): string {
  const parts = rgb.map((v) => percent(v, 0));
  return parts.every((p) => p === parts[0]) ? (parts[0] ?? "") : parts.join(" ");
}

export function bytes(n: number): string {
  if (n === 0) return `0${THIN}B`;
  if (n < 1024 * 1024) return `${figure(n / 1024)}${THIN}KiB`;
  return `${figure(n / 1024 / 1024)}${THIN}MiB`;
}

export function when(iso: string): string {
  return new Date(iso).toLocaleString("en-GB", {
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
  });
}
