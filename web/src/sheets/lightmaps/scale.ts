// cividis (Nunez, Anderton and Renslow 2018), ten of its colours: even in lightness, the same to eyes that miss red or green.
const STOPS = [
  [0, 34, 78],
  [18, 53, 112],
  [59, 73, 108],
  [87, 93, 109],
  [112, 113, 115],
  [138, 134, 120],
  [165, 156, 116],
  [195, 179, 105],
  [225, 204, 85],
  [254, 232, 56],
] as const;

/** CSS colour of a share 0..1 on a perceptually even scale. */
export function scaleColour(share: number): string {
  const at = Math.min(Math.max(share, 0), 1) * (STOPS.length - 1);
  const i = Math.min(Math.floor(at), STOPS.length - 2);
  const [a, b] = [STOPS[i], STOPS[i + 1]] as [readonly number[], readonly number[]];
  return `rgb(${[0, 1, 2].map((k) => Math.round((a[k] as number) + ((b[k] as number) - (a[k] as number)) * (at - i))).join(" ")})`;
}

export const scaleGradient = `linear-gradient(to right, ${[0, 0.25, 0.5, 0.75, 1].map(scaleColour).join(", ")})`;
