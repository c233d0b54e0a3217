import type { PointerEvent } from "react";
import { buildPath } from "../../api/client";
import { Picture } from "../../ui/Picture";
import { percent } from "../../ui/words";
import type { Look, Section } from "./queries";
import { share } from "./words";

const [WIDTH, HEIGHT] = [960, 540];

type Props = {
  look: Look;
  section: Section;
  at: [number, number] | null;
  pick: (at: [number, number]) => void;
};

/** The frame: missing shadow hatched, false shadow dotted; a click asks about a pixel. */
export function FrameMarked({ look, section, at, pick }: Props) {
  const query = new URLSearchParams({ light: section.light, state: look.state, stamp: look.stamp });
  if (look.target) query.set("target", look.target);
  const src = `${buildPath(look.project, look.build)}/shadows/${encodeURIComponent(look.viewpoint)}/picture?${query}`;
  const ask = (e: PointerEvent) => {
    const r = e.currentTarget.getBoundingClientRect();
    const x = Math.floor(((e.clientX - r.left) / r.width) * WIDTH);
    const y = Math.floor(((e.clientY - r.top) / r.height) * HEIGHT);
    pick([Math.min(Math.max(x, 0), WIDTH - 1), Math.min(Math.max(y, 0), HEIGHT - 1)]);
  };
  return (
    <section aria-label="In the frame">
      <div className="stage p-2">
        <div
          className="relative aspect-video"
          style={{ cursor: "crosshair" }}
          data-testid="marked"
          onPointerUp={ask}
        >
          <Picture
            src={src}
            alt={`${look.viewpoint}: missing shadow hatched, false shadow dotted`}
            className="w-full h-full block"
            draggable={false}
          />
          {at && (
            <svg
              viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
              className="absolute inset-0 w-full h-full"
              aria-hidden="true"
            >
              <circle cx={at[0]} cy={at[1]} r={13} fill="none" stroke="#fff" strokeWidth={5} />
              <circle cx={at[0]} cy={at[1]} r={13} fill="none" stroke="#17252b" strokeWidth={2} />
            </svg>
          )}
        </div>
      </div>
      <p className="mt-1 second">
        <span aria-hidden="true">▨</span> missing {percent(share(section, "missing"))} ·{" "}
        <span aria-hidden="true">⁘</span> false {percent(share(section, "false"))} · within the filter of an
        edge {percent(share(section, "edge"))}. Click a pixel to ask about it.
      </p>
    </section>
  );
}
