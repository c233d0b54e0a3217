import { type ReactNode, useState } from "react";
import { useKeep } from "../../api/writes";
import { Failed, Skeleton } from "../../ui/state";
import { figure } from "../../ui/words";
import { BiasChart, WayMark } from "./BiasChart";
import { type Bias, type Look, type Outcome, useBias } from "./queries";

type Props = { look: Look; light: string; technique: string };

/** A light's bias solved: what ends acne, what contact that loses, the smallest that keeps both limits, each drawn again. */
export function BiasFront({ look, light, technique }: Props) {
  const [asked, setAsked] = useState<string | null>(null);
  const wanted = asked === light;
  const found = useBias(look, light, wanted);
  const keep = useKeep(look.project, look.build);
  if (technique === "rays") return null;
  const bias = found.data;
  const keepIt = (change: Record<string, unknown>, after: Outcome) =>
    keep.mutate({
      change,
      evidence: {
        measure: `px that ${light} lets shade themselves`,
        before: bias?.set_to.false_px ?? 0,
        after: after.false_px,
      },
      reason: "",
    });
  return (
    <section aria-label="Shadow bias" className="mt-4">
      <div className="flex items-baseline gap-3">
        <h2>Shadow bias of {light}</h2>
        {bias && <span className="second">{verdict(bias)}</span>}
      </div>
      {!wanted && (
        <p className="mt-1">
          <button type="button" className="btn btn-sm" onClick={() => setAsked(light)}>
            Solve the bias of {light}
          </button>
          <span className="second ml-3">
            Every constant and slope factor at once, from the maps as they are; what is offered is drawn
            again.
          </span>
        </p>
      )}
      <Failed error={found.error ?? keep.error} />
      {wanted && found.isPending && <Skeleton lines={5} />}
      {bias && (
        <div className="grid grid-cols-[minmax(300px,1fr)_minmax(0,1.9fr)] gap-6 items-start mt-1">
          <BiasChart bias={bias} />
          <Ways bias={bias} keep={keepIt} busy={keep.isPending} />
        </div>
      )}
    </section>
  );
}

function Ways({
  bias,
  keep,
  busy,
}: {
  bias: Bias;
  keep: (change: Record<string, unknown>, after: Outcome) => void;
  busy: boolean;
}) {
  const drawn = (o: Outcome) => bias.front.find((r) => r.outcome.bias.words === o.bias.words);
  const others = bias.front.filter(
    (r) => !bias.ways.some((w) => w.best?.bias.words === r.outcome.bias.words),
  );
  return (
    <div>
      <table className="sheet-table" data-testid="bias">
        <thead>
          <tr>
            <th>Way</th>
            <th>Smallest bias</th>
            <th className="text-right!">Shade themselves</th>
            <th className="text-right!">Contact lost</th>
            <th className="text-right!">Tips short</th>
            <th className="text-right!">Lift</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <Row limit={bias.limit_px} of={bias.set_to} name="as set" />
          {bias.ways.map((w) => {
            const again = w.best && drawn(w.best);
            return w.best ? (
              <Row
                key={w.name}
                limit={bias.limit_px}
                of={w.best}
                name={w.name}
                chosen={w.best.bias.words === bias.chosen?.bias.words}
              >
                {again && (
                  <>
                    <Drawn as={again.same} />
                    <button
                      type="button"
                      className="btn btn-xs ml-2"
                      disabled={busy}
                      onClick={() => keep(again.change, again.outcome)}
                    >
                      Keep
                    </button>
                  </>
                )}
              </Row>
            ) : (
              w.least && (
                <Row limit={bias.limit_px} key={w.name} of={w.least} name={w.name}>
                  <span className="second">
                    none keeps both
                    {w.resolution !== null && `; maps of ${figure(w.resolution)} texels would (a prediction)`}
                  </span>
                </Row>
              )
            );
          })}
          {others.map((r) => (
            <Row limit={bias.limit_px} key={r.outcome.bias.words} of={r.outcome} name={r.outcome.way}>
              <Drawn as={r.same} />
            </Row>
          ))}
        </tbody>
      </table>
      {bias.at_texel?.best && bias.at_texel.change && (
        <p className="mt-2">
          With maps of {figure(bias.at_texel.resolution)} texels, drawn: {bias.at_texel.best.bias.words} keeps
          both.{" "}
          <button
            type="button"
            className="btn btn-xs ml-2"
            disabled={busy}
            onClick={() => bias.at_texel?.best && keep(bias.at_texel.change ?? {}, bias.at_texel.best)}
          >
            Keep both
          </button>
        </p>
      )}
    </div>
  );
}

/** Whether a frame drawn with the bias has what thresholds said of it. */
function Drawn({ as: same }: { as: boolean }) {
  return (
    <span className={same ? "second whitespace-nowrap" : "text-error whitespace-nowrap"}>
      {same ? "✓ drawn" : "✗ drawn otherwise"}
    </span>
  );
}

function Row({
  of,
  limit,
  name,
  chosen,
  children,
}: {
  of: Outcome;
  limit: number;
  name: string;
  chosen?: boolean;
  children?: ReactNode;
}) {
  const { foot, tip } = of;
  const over = foot.limit_mm !== null && foot.lost_mm > foot.limit_mm;
  return (
    <tr>
      <td className="whitespace-nowrap">
        <WayMark way={name} />
        {name}
      </td>
      <td className={chosen ? "num font-bold" : "num"}>{of.bias.words}</td>
      <td className={`num text-right whitespace-nowrap ${of.false_px > limit ? "text-error" : ""}`}>
        {figure(of.false_px)} px
      </td>
      <td className={`num text-right whitespace-nowrap ${over ? "text-error" : ""}`} title={foot.caster}>
        {figure(Number(foot.lost_mm.toFixed(0)))} of{" "}
        {foot.limit_mm === null ? "–" : figure(Number(foot.limit_mm.toFixed(0)))} mm
      </td>
      <td className="num text-right whitespace-nowrap" title={tip.caster}>
        {figure(Number(tip.lost_mm.toFixed(0)))} mm
      </td>
      <td className="num text-right whitespace-nowrap">{figure(Number(of.lift_mm.toFixed(0)))} mm</td>
      <td className="text-right">{children}</td>
    </tr>
  );
}

function verdict(b: Bias): string {
  const on = `${figure(b.asked_px)} px, ${figure(b.lines)} feet and tips, ${b.viewpoints.length} viewpoint${b.viewpoints.length === 1 ? "" : "s"}`;
  if (b.chosen)
    return `${b.set_to.inside ? "as set it keeps both limits; smallest that does" : "smallest that keeps both limits"}: ${b.chosen.bias.words} · ${on}`;
  return `no bias keeps both limits · ${on}`;
}
