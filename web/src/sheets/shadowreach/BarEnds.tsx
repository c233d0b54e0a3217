import { useState } from "react";
import { buildPath } from "../../api/client";
import { Picture } from "../../ui/Picture";
import { figure } from "../../ui/words";
import type { Caster, Look } from "./queries";

/** A caster's shadow drawn from just inside its bar's end and from just beyond it, once asked for. */
export function BarEnds({ look, caster, light }: { look: Look; caster: Caster; light: string }) {
  const [asked, setAsked] = useState<string | null>(null);
  if (caster.ends_m === null || caster.ends_m <= 0) return null;
  const ends = figure(Number(caster.ends_m.toPrecision(3)));
  const src = (beyond: boolean) => {
    const query = new URLSearchParams({
      caster: caster.name,
      light,
      beyond: String(beyond),
      state: look.state,
      stamp: look.stamp,
    });
    if (look.target) query.set("target", look.target);
    return `${buildPath(look.project, look.build)}/shadows/${encodeURIComponent(look.viewpoint)}/end?${query}`;
  };
  if (asked !== caster.name)
    return (
      <p className="mt-1">
        <button type="button" className="btn btn-sm" onClick={() => setAsked(caster.name)}>
          Draw both sides of its end
        </button>
      </p>
    );
  return (
    <div className="grid grid-cols-2 gap-2 mt-2" data-testid="bar-ends">
      {[false, true].map((beyond) => {
        const words = beyond ? `just beyond ${ends} m` : `just inside ${ends} m`;
        return (
          <figure key={words}>
            <Picture
              src={src(beyond)}
              alt={`${caster.name} ${words}`}
              className="w-full aspect-[4/3] object-cover block"
            />
            <figcaption className="second">{words}</figcaption>
          </figure>
        );
      })}
    </div>
  );
}
