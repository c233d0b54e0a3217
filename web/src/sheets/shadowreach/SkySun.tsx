import { buildPath } from "../../api/client";
import { Picture } from "../../ui/Picture";
import { Failed } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import { type Look, type SkyOf, useSky } from "./queries";

const three = (v: number) => figure(Number(v.toPrecision(3)));

/** The sky picture that the frame is drawn with: the sun in it, what it gives, and what of that throws no shadow. */
export function SkySun({ look }: { look: Look }) {
  const found = useSky(look);
  const sky = found.data;
  if (found.error)
    return (
      <section aria-label="Sky" className="mt-4">
        <h2>Sun of the sky</h2>
        <Failed error={found.error} />
      </section>
    );
  if (!sky?.found) return null;
  const src = (withoutSun: boolean) => {
    const query = new URLSearchParams({
      without_sun: String(withoutSun),
      state: look.state,
      stamp: look.stamp,
    });
    if (look.target) query.set("target", look.target);
    return `${buildPath(look.project, look.build)}/shadows/${encodeURIComponent(look.viewpoint)}/sky/picture?${query}`;
  };
  const none = sky.found.verdict === "none";
  return (
    <section aria-label="Sky" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>Sun of the sky</h2>
        <span className={sky.share > sky.limit ? "text-error" : "second"}>{verdict(sky)}</span>
      </div>
      <div className="grid grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] gap-6 mt-1 items-start max-w-6xl">
        <div className="grid gap-2 grid-cols-2">
          {(none ? [false] : [false, true]).map((left) => (
            <figure key={String(left)}>
              <Picture
                src={src(left)}
                alt={left ? `${sky.picture} without its sun` : sky.picture}
                className="w-full aspect-[2/1] block"
              />
              <figcaption className="second">
                {left
                  ? "without its sun"
                  : `${sky.picture}, ${sky.found?.width} x ${sky.found?.height} px, -Z in the middle`}
              </figcaption>
            </figure>
          ))}
        </div>
        <Rows sky={sky} />
      </div>
    </section>
  );
}

function verdict(sky: SkyOf): string {
  const found = sky.found;
  if (!found) return "";
  if (found.verdict === "none") return `no sun to trust: ${found.why}`;
  const least = found.verdict === "clipped" ? "at least " : "";
  if (sky.share > sky.limit)
    return `${least}${percent(sky.share, 1)} of the light on level ground throws no shadow; limit ${percent(sky.limit, 0)}`;
  if (!sky.ambient) return "the sky lights nothing";
  return found.verdict === "clipped" ? `cut off: ${found.why}` : "within the limit";
}

function Rows({ sky }: { sky: SkyOf }) {
  const found = sky.found;
  if (!found) return null;
  const least = found.verdict === "clipped" ? "at least " : "";
  const sun: [string, string][] =
    found.verdict === "none"
      ? []
      : [
          ["Towards", sky.towards.map((v) => v.toFixed(4)).join(", ")],
          ["On a face turned to it", `${least}${three(sky.lux)} lx`],
          [
            "Its disc",
            found.radius_deg === null
              ? "smaller than the pixels tell"
              : `${three(2 * found.radius_deg)} deg across`,
          ],
          ["On level ground, of it", `${least}${three(sky.sun_lux)} lx`],
        ];
  const rows: [string, string][] = [
    ...sun,
    ["On level ground, of the rest", `${three(sky.sky_lux)} lx`],
    ["On level ground, of suns that are lights", `${three(sky.lights_lux)} lx`],
  ];
  if (sun.length) rows.push(["Its shade is due at", `${found.stops.toFixed(2)} stops`]);
  if (sun.length) rows.push(["Pixels in its shade", figure(sky.due_px)]);
  if (sky.as_light) rows.push(["A light stands there", sky.as_light]);
  return (
    <table className="sheet-table" data-testid="sky-sun">
      <tbody>
        {rows.map(([what, value]) => (
          <tr key={what}>
            <td>{what}</td>
            <td className="num text-right">{value}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
