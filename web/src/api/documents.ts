/** Documents of the core that pass through the API as they are; docs/formats.md names their keys. */
export type Evidence = {
  measure: string;
  value: number | null;
  unit: string;
  limit: number | null;
  source: string;
  predicted: boolean;
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
  what: string;
  title: string;
  severity: "blocking" | "visible" | "latent";
  impact: { kind: string; share: number; mean_share: number; viewpoint: string | null; why: string };
  cause: string;
  subjects: string[];
  pixels: Record<string, number>;
  evidence: Evidence[];
  remedies: Remedy[];
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
