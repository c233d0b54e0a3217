/** Names of what was asked of the server, in one place: two that ask the same share the answer. */
type Where = { project: number; build: number; asset: string; target: string | null };

/** What a sheet of one viewpoint looks at. */
type Looked = {
  project: number;
  build: number;
  viewpoint: string;
  target: string | null;
  stamp: string;
  state: string;
};

export const keys = {
  session: () => ["session"],
  ownEvents: () => ["session", "events"],
  invitations: () => ["invitations"],
  projects: () => ["projects"],
  symptoms: () => ["symptoms"],
  project: (project: number) => ["project", project],
  members: (project: number) => ["members", project],
  events: (project: number) => ["events", project],
  jobs: (project: number) => ["jobs", project],
  builds: (project: number) => ["builds", project],
  build: (project: number, build: number) => ["build", project, build],
  setup: (project: number, build: number, viewpoint: string | undefined, target: string) => [
    "setup",
    project,
    build,
    viewpoint,
    target,
  ],
  sweeps: (project: number, build: number) => ["sweeps", project, build],
  sweep: (project: number, build: number, sweep: number | undefined) => ["sweep", project, build, sweep],
  cases: (project: number, build: number) => ["cases", project, build],
  case: (project: number, build: number, number: number) => ["case", project, build, number],
  ledger: (project: number, build: number) => ["ledger", project, build],
  packages: (project: number, build: number) => ["packages", project, build],
  lightmaps: (project: number, build: number, target: string | null) => ["lightmaps", project, build, target],
  bakes: (project: number, build: number) => ["bakes", project, build],
  worth: (project: number, build: number) => ["worth", project, build],
  // What was measured on a version of a build: the stamp says which, so that nothing of an older one is shown for it.
  page: (w: Where, state: string) => ["page", w, state],
  copies: (w: Where) => ["copies", w],
  map: (w: Where, how: string) => ["map", w, how],
  leaks: (w: Where, lightSet: string | null, stamp: string) => ["leaks", w, lightSet, stamp],
  why: (w: Where, lightSet: string | null, texel: [number, number] | null, stamp: string) => [
    "why",
    w,
    lightSet,
    texel,
    stamp,
  ],
  texels: (project: number, build: number, viewpoint: string, stamp: string) => [
    "texels",
    project,
    build,
    viewpoint,
    stamp,
  ],
  shadows: (
    project: number,
    build: number,
    viewpoint: string,
    light: string | null,
    target: string | null,
    stamp: string,
  ) => ["shadows", project, build, viewpoint, light, target, stamp],
  light: (l: Looked, what: string, of: string | null) => [
    "light",
    what,
    l.project,
    l.build,
    l.viewpoint,
    l.target,
    of,
    `${l.stamp} ${l.state}`,
  ],
  layers: (l: Looked, what: string, of: string | null) => [
    "layers",
    what,
    l.project,
    l.build,
    l.viewpoint,
    l.target,
    of,
    `${l.stamp} ${l.state}`,
  ],
  cures: (
    project: number,
    build: number,
    viewpoint: string,
    caster: string,
    target: string | null,
    stamp: string,
  ) => ["cures", project, build, viewpoint, caster, target, stamp],
  bias: (project: number, build: number, light: string, target: string | null, stamp: string) => [
    "bias",
    project,
    build,
    light,
    target,
    stamp,
  ],
  walk: (
    project: number,
    build: number,
    viewpoint: string,
    light: string,
    target: string | null,
    move: string | null,
    stamp: string,
  ) => ["walk", project, build, viewpoint, light, target, move, stamp],
  budget: (project: number, build: number, viewpoint: string, target: string | null, stamp: string) => [
    "budget",
    project,
    build,
    viewpoint,
    target,
    stamp,
  ],
  sky: (project: number, build: number, viewpoint: string, target: string | null, stamp: string) => [
    "sky",
    project,
    build,
    viewpoint,
    target,
    stamp,
  ],
  fineness: (
    project: number,
    build: number,
    viewpoint: string,
    light: string,
    target: string | null,
    stamp: string,
  ) => ["fineness", project, build, viewpoint, light, target, stamp],
  leftovers: (project: number, build: number, of: string, stamp: string) => [
    "leftovers",
    project,
    build,
    of,
    stamp,
  ],
  linear: (base: string, stamp: string) => ["linear", base, stamp],
  autopsy: (base: string, stamp: string, at: [number, number]) => ["autopsy", base, stamp, ...at],
  core: (base: string, stamp: string, at: [number, number]) => ["core", base, stamp, ...at],
};
