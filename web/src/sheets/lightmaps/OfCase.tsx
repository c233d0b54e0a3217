import { Link } from "react-router";
import type { FindingDocument } from "../../api/client";
import { BakeBox } from "./BakeBox";
import { useLightmaps } from "./queries";
import { assetLink } from "./words";

/** On the Bench: the lightmaps a case is about, why their texels are as they are, and whether they must be baked before it is proved. */
export function OfCase({
  project,
  build,
  finding,
}: {
  project: number;
  build: number;
  finding: FindingDocument;
}) {
  const about = finding.sheet === "lightmaps";
  const sheet = useLightmaps(project, build, null, about);
  if (!about || !sheet.data) return null;
  const mine = sheet.data.assets.filter((a) => a.drawables.some((d) => finding.subjects.includes(d)));
  const first = mine.find((a) => a.asset === finding.facts.receiver) ?? mine[0];
  if (!first) return null;
  const texels = finding.facts.texels;
  const n: unknown = Array.isArray(texels) ? texels[texels.length >> 1] : undefined;
  const texel =
    typeof n !== "number" ? "" : `?texel=${n % first.resolution},${Math.floor(n / first.resolution)}`;
  return (
    <section className="mt-3" aria-label="Lightmaps of this case">
      <h2>Lightmap</h2>
      <p className="mb-2">
        <Link className="underline" to={assetLink(project, build, first.asset) + texel}>
          {texel
            ? `Why texel ${texel.slice(7).replace(",", ", ")} of ${first.asset}`
            : `The chart page of ${first.asset}`}
        </Link>
        {mine.length > 1 && <span className="second"> and {mine.length - 1} more assets</span>}
      </p>
      <BakeBox project={project} build={build} sheet={sheet.data} assets={mine.map((a) => a.asset)} />
    </section>
  );
}
