import { buildPath } from "../../api/client";
import { Picture } from "../../ui/Picture";
import { percent } from "../../ui/words";
import { pixelAt, Ring } from "../pixel";
import type { Look, Section } from "./queries";
import { share } from "./words";

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
  return (
    <section aria-label="In the frame">
      <div className="stage p-2">
        <div
          className="relative aspect-video"
          style={{ cursor: "crosshair" }}
          data-testid="marked"
          onPointerUp={(e) => pick(pixelAt(e))}
        >
          <Picture
            src={src}
            alt={`${look.viewpoint}: missing shadow hatched, false shadow dotted`}
            className="w-full h-full block"
            draggable={false}
          />
          {at && <Ring at={at} r={13} />}
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
