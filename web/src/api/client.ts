import createClient from "openapi-fetch";
import { patientFetch } from "./patient";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Build = Schemas["BuildOut"];
export type Project = Schemas["ProjectOut"];
export type Case = Schemas["CaseOut"];
export type Sweep = Schemas["SweepOut"];
export type Job = Schemas["JobOut"];
export type Delivery = Schemas["DeliveryOut"];
export type Edit = Schemas["EditDocument"];
export type Change = Schemas["ChangeOut"];
export type Lightmaps = Schemas["LightmapSheet"];
export type LightmapAsset = Schemas["SeenAsset"];
export type FindingDocument = Schemas["FindingDocument"];
export type TrialDocument = Schemas["TrialDocument"];
export type Layer = Schemas["LayerDocument"];
export type CoreSample = Schemas["CoreSampleDocument"];
export type ProofResult = Schemas["ProofDocument"];
export type ChartReport = Schemas["ChartsDocument"];
export type PageDocument = Schemas["PageDocument"];
export type PageAnswer = Schemas["AssetPage"];
export type Effect = Schemas["EffectDocument"];
export type Explanation = Schemas["ExplanationDocument"];
export type Leak = Schemas["LeakDocument"];
export type CopyRemedy = Schemas["CopyRemedyDocument"];
export type Worth = Schemas["ShortlistDocument"];

/** What the server refuses, in its own words. `body` holds both sides of a conflict. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly body: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

export function csrf(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

export const client = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (r) => patientFetch(r),
});
client.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf());
    return request;
  },
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer, or a Refusal with the server's line. */
export async function must<T>(answer: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await answer.catch(() => {
    throw new Refusal(0, "The server does not answer. It may be starting again; this page goes on trying.");
  });
  if (response.ok) return data as T;
  const body = (error && typeof error === "object" ? error : {}) as Record<string, unknown>;
  const said = typeof body.detail === "string" ? body.detail : `The server answered ${response.status}.`;
  throw new Refusal(response.status, said, body);
}

export const buildPath = (p: number, n: number) => `/api/projects/${p}/builds/${n}`;
export const casePath = (p: number, n: number, c: number) => `${buildPath(p, n)}/cases/${c}`;
export const assetPath = (p: number, n: number, asset: string) =>
  `${buildPath(p, n)}/lightmaps/${encodeURIComponent(asset)}`;
