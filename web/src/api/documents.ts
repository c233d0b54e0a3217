/** Documents of the core that pass through the API as they are; docs/formats.md names their keys. */
export type Evidence = {
  measure: string;
  value: number | null;
  unit: string;
  limit: number | null;
  source: string;
  predicted: boolean;
  at_least: boolean;
  beyond: boolean;
};
export type Remedy = {
  title: string;
  verdict: string;
  scope: string;
  predicts: string;
  costs: { name: string; value: number; unit: string }[];
  side_effects: string[];
  warnings: string[];
  collateral_share: number;
  new_findings: string[];
};
export type FindingDocument = {
  code: string;
  kind: string;
  /** The sheet where it is worked on. */
  sheet: string;
  what: string;
  title: string;
  severity: "blocking" | "visible" | "latent";
  impact: { kind: string; share: number; mean_share: number; viewpoint: string | null; why: string };
  cause: string;
  subjects: string[];
  pixels: Record<string, number>;
  evidence: Evidence[];
  remedies: Remedy[];
  facts?: { receiver?: string; texels?: number[]; [key: string]: unknown };
  seen_in: { role: string; seen: boolean; leaf: string | null; play_value: unknown; role_value: unknown }[];
};
export type TrialDocument = {
  title: string;
  verdict: string;
  before: number;
  after: number;
  collateral_share: number;
  also_changed_share: number;
  pass: string;
  scope: string | null;
  predicts: string;
  because: string;
  surprise: boolean;
  change: Record<string, unknown> | null;
};
export type Layer = {
  pass: string;
  drawable: string;
  state: string;
  colour: number[];
  weight: number[];
  before: number[];
  after: number[];
  depth_m: number | null;
  facts: Record<string, unknown>;
  /** What is wrong with it, in a few words; empty if nothing is. */
  alarm: string;
};
export type CoreSample = {
  viewpoint: string;
  at: [number, number];
  drawable: string | null;
  linear: number[];
  sum: number[];
  prepass_depth_m: number | null;
  depth_m: number | null;
  layers: Layer[];
  transforms: string[];
  exposure_scale: number;
};
export type ProofResult = {
  proved: boolean;
  why: string;
  ended: string[];
  left: string[];
  made: string[];
  views: {
    viewpoint: string;
    role: string;
    changed: number;
    on_cause: number;
    elsewhere: number;
    siblings: Record<string, number>;
  }[];
};
export type ChartLine = {
  triangles: number;
  uv_area: number;
  area_m2: number;
  texels_per_m: number;
  mirrored: boolean;
  skew_deg: number | null;
  step_texels: number | null;
  stretch_l2: number | null;
  low: [number, number];
  high: [number, number];
};
export type ChartReport = {
  asset: string;
  resolution: number;
  page_tiles: number;
  uv_use: string;
  triangles: number;
  overlap: { pairs: number; surface_share: number; texel_share: number };
  overlap_modulo_1: { surface_share: number };
  out_of_range_share: number;
  degenerate: number;
  page_texels_per_m: number;
  density_spread: number;
  stretch_l2: number | null;
  gutter_texels: number | null;
  safe_mip: number | null;
  memory_bytes: Record<string, number>;
  charts: ChartLine[];
  splits: { charts: [number, number]; length_m: number; bend_deg: number }[];
};
export type PageDocument = {
  triangles: string;
  chart: string;
  density: string;
  borders: string;
  border_chart: string;
  doubled: string;
  splits: string;
  gutter_at: [number, number] | null;
};
export type PageAnswer = { report: ChartReport; geometry: PageDocument; others?: string[] };
export type Effect = {
  code: string;
  title: string;
  without_lux: number;
  effect_lux: number;
  share: number;
  facts: Record<string, unknown>;
};
export type Explanation = {
  asset: string;
  light_set: string | null;
  texel: [number, number];
  edge: number;
  value_lux: number;
  reference_lux: number;
  noise_lux: number;
  all_removed_lux: number;
  unexplained_lux: number;
  healthy: boolean;
  facts: { drawable: string; owned: boolean; stored: boolean; texel_mm: number[]; samples: number };
  effects: Effect[];
};
export type Leak = {
  occluder: string;
  reach_linear_mm: number;
  reach_nearest_mm: number;
  contrast: number;
  texels: number[];
  trouble: { words: string; weight: number };
};
export type CopyRemedy = {
  title: string;
  texel_share: number;
  surface_share: number;
  texels_per_m: number;
  price: string;
  cures: boolean;
  change: Record<string, unknown> | null;
};
export type Worth = {
  candidates: {
    node: string;
    value: number;
    area_m2: number;
    triangles: number;
    contrast: number;
    resolution: number;
    bytes: number;
    unwrap_s: number;
    bake_s: number;
    noise: number;
    why: string;
    mapped: boolean;
  }[];
  triangles_per_s: number;
  unwrap_all_s: number;
  unwrap_chosen_s: number;
  memory_bytes: Record<string, number>;
};
