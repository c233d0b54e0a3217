/** Strata from what any pass finds to what none can: told apart by pattern as well as by tone. */
export const STRATA = [
  "on the frame",
  "not in the copy",
  "hidden",
  "other side of a sheet",
  "off the frame",
  "behind the camera",
  "sky",
];

const PLAIN: Record<string, string> = {
  "on the frame": "var(--color-success)",
  "behind the camera": "var(--color-error)",
  sky: "var(--color-base-300)",
};
const PATTERNED: Record<string, string> = {
  "not in the copy": "dots",
  hidden: "bars",
  "other side of a sheet": "cross",
  "off the frame": "slant",
};

/** What fills a stratum; of: the drawing whose patterns it takes. */
export function fillOf(where: string, of: string): string {
  const pattern = PATTERNED[where];
  return pattern ? `url(#${of}-${pattern})` : (PLAIN[where] ?? "none");
}

/** How a ray to such a place is drawn: the less of it can be found, the more it is broken. */
export const DASHES: Record<string, string | undefined> = {
  "on the frame": undefined,
  "not in the copy": "6 2",
  hidden: "4 3",
  "other side of a sheet": "4 3",
  "off the frame": "3 4",
  "behind the camera": "1 4",
};

/** The patterns of a drawing. */
export function Patterns({ of }: { of: string }) {
  const line = { stroke: "currentColor", strokeWidth: 1 };
  return (
    <defs>
      <pattern id={`${of}-dots`} width={5} height={5} patternUnits="userSpaceOnUse">
        <circle cx={2} cy={2} r={1} fill="currentColor" />
      </pattern>
      <pattern id={`${of}-bars`} width={4} height={4} patternUnits="userSpaceOnUse">
        <path d="M1 0V4" {...line} />
      </pattern>
      <pattern id={`${of}-cross`} width={5} height={5} patternUnits="userSpaceOnUse">
        <path d="M0 0L5 5M5 0L0 5" {...line} />
      </pattern>
      <pattern id={`${of}-slant`} width={5} height={5} patternUnits="userSpaceOnUse">
        <path d="M0 5L5 0" {...line} />
      </pattern>
    </defs>
  );
}
