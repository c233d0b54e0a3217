import { Failed, Skeleton } from "../../ui/state";
import { figure } from "../../ui/words";
import type { Look } from "../look";
import { type Pose, type StrataOf, type Stratum, useStrata } from "./queries";

const HEIGHT = 220;
const LEAST = 16;
/** Layers that are not in the picture. */
const UNSEEN = new Set([
  "hidden by what is opaque",
  "in no copy",
  "hidden by its depth",
  "hidden by the depth that another wrote",
  "left out: too deep",
]);

/** The layers of a pixel as two borehole logs side by side: as drawn and as they lie; thickness is the share of the final light. */
export function Strata({ look, pose, at }: { look: Look; pose: Pose; at: [number, number] | null }) {
  const found = useStrata(look, pose, at);
  if (at === null)
    return <p className="second">Click into the frame, or press P, to see the layers of a pixel.</p>;
  return (
    <section aria-label="Layers of a pixel" className="mt-3">
      <h2>
        Layers at <span className="num">{at.join(", ")}</span>
      </h2>
      <Failed error={found.error} />
      {found.isPending && <Skeleton lines={4} />}
      {found.data && <Logs of={found.data} />}
    </section>
  );
}

function Logs({ of }: { of: StrataOf }) {
  const drawn = of.strata.filter((s) => !UNSEEN.has(s.place));
  const lies = of.true.map((k) => of.strata[k] as Stratum);
  const thick = (list: Stratum[], key: "share" | "true_share") => {
    const shares = list.map((s) => grey(s[key]));
    const total = Math.max(
      shares.reduce((a, b) => a + b, 0),
      1e-9,
    );
    return shares.map((s) => LEAST + ((HEIGHT - LEAST * list.length) * s) / total);
  };
  return (
    <>
      <p className="second" data-testid="pixel-sum">
        drawn {nits(of.drawn)} nit, due {nits(of.due)} nit, opaque {nits(of.opaque)} nit
      </p>
      {of.strata.length > 0 && (
        <p className="second" data-testid="pixel-depth">
          {of.copied_m === null
            ? "The depth copy holds nothing here"
            : `The depth copy says ${figure(of.copied_m)} m for all of them`}
          {of.solid_m !== null &&
            of.copied_m !== null &&
            Math.abs(of.solid_m - of.copied_m) > 0.01 * of.solid_m &&
            `, where what is solid is ${figure(of.solid_m)} m away`}
          .
        </p>
      )}
      <div className="grid grid-cols-2 gap-3 mt-1">
        <Log title="As drawn, last on top" list={drawn} thick={thick(drawn, "share")} testid="log-drawn" />
        <Log
          title="As they lie, nearest on top"
          list={lies}
          thick={thick(lies, "true_share")}
          testid="log-true"
        />
      </div>
      {of.strata.length > 0 && (
        <table className="sheet-table mt-2">
          <thead>
            <tr>
              <th>Layer</th>
              <th className="text-right!">From the eye</th>
              <th className="text-right!">Keeps | lays</th>
              <th>Its turn</th>
            </tr>
          </thead>
          <tbody>
            {of.strata.map((s, k) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: faces of one mesh are told apart by their turn alone
              <tr key={k}>
                <td>
                  {s.drawable} <span className="second">{kindWord(s.kind)}</span>
                </td>
                <td className="num text-right whitespace-nowrap">{s.far_m.toFixed(3)} m</td>
                <td className="num text-right whitespace-nowrap">
                  {nits(s.keep)} | {nits(s.lay)}
                </td>
                <td className={s.place === "in place" ? "" : "text-error font-semibold"}>
                  {s.place}
                  {s.against.length > 0 && ` against ${s.against.join(", ")}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function Log({
  title,
  list,
  thick,
  testid,
}: {
  title: string;
  list: Stratum[];
  thick: number[];
  testid: string;
}) {
  return (
    <div>
      <h3 className="second">{title}</h3>
      <ol className="border border-base-content" reversed data-testid={testid}>
        {list
          .map((s, k) => ({ s, k }))
          .toReversed()
          .map(({ s, k }) => (
            <li
              key={k}
              className={`border-b border-base-300 px-2 flex items-center justify-between gap-2 overflow-hidden ${s.place === "in place" ? "" : "text-error"} ${UNSEEN.has(s.place) ? "border-2 border-dashed border-error" : ""}`}
              style={{ height: thick[k] }}
            >
              <span className="truncate font-semibold">{s.drawable}</span>
              <span className="num whitespace-nowrap">
                {mean(s.keep)} | {mean(s.lay)}
              </span>
            </li>
          ))}
        <li className="px-2 bg-base-200">opaque</li>
      </ol>
    </div>
  );
}

export const kindWord = (kind: string) => (kind === "destination_out" ? "cut-behind" : kind);

const mean = (rgb: number[]) => figure(Number(grey(rgb).toPrecision(2)));

const grey = (rgb: number[]) => rgb.reduce((a, b) => a + Math.abs(b), 0) / 3;

function nits(rgb: number[]): string {
  const same = Math.max(...rgb) - Math.min(...rgb) < 1e-6;
  const told = same ? rgb.slice(0, 1) : rgb;
  return told.map((v) => figure(Number(v.toPrecision(3)))).join(" ");
}
