import { type PointerEvent, useState } from "react";
import { Picture } from "../../ui/Picture";
import { Label, Wipe } from "../../ui/Wipe";
import type { Look } from "../look";
import { type Pose, pictureUrl } from "./queries";

export const [WIDE, HIGH] = [960, 540];

type Props = {
  look: Look;
  pose: Pose;
  wipe: number;
  setWipe: (at: number) => void;
  at: [number, number] | null;
  pick: (at: [number, number]) => void;
};

/** The frame of what is looked at: as drawn on the left of the wipe, every pixel's layers in their true order on the right. */
export function FrameEither({ look, pose, wipe, setWipe, at, pick }: Props) {
  const ask = (e: PointerEvent) => {
    if (e.target instanceof HTMLElement && e.target.closest("[role=slider]")) return;
    const r = e.currentTarget.getBoundingClientRect();
    const x = Math.floor(((e.clientX - r.left) / r.width) * WIDE);
    const y = Math.floor(((e.clientY - r.top) / r.height) * HIGH);
    pick([Math.min(Math.max(x, 0), WIDE - 1), Math.min(Math.max(y, 0), HIGH - 1)]);
  };
  const layer = "absolute inset-0 w-full h-full select-none";
  const [drawn, truly] = [pictureUrl(look, pose, "drawn"), pictureUrl(look, pose, "true")];
  const [there, setThere] = useState({ drawn: "", truly: "" });
  return (
    <div className="stage p-2">
      <div className="relative aspect-video cursor-crosshair" data-testid="either" onPointerUp={ask}>
        <Picture
          src={drawn}
          alt="as drawn"
          className={layer}
          draggable={false}
          settled={() => setThere((t) => ({ ...t, drawn }))}
        />
        <Picture
          src={truly}
          settled={() => setThere((t) => ({ ...t, truly }))}
          alt="with every pixel's layers in their true order"
          className={layer}
          style={{ clipPath: `inset(0 0 0 ${wipe * 100}%)` }}
          draggable={false}
        />
        <Wipe at={wipe} set={setWipe} />
        <Label side="left" text={there.drawn === drawn ? "as drawn" : "is being drawn"} />
        <Label side="right" text={there.truly === truly ? "true order" : "is being drawn"} />
        {at && (
          <svg
            viewBox={`0 0 ${WIDE} ${HIGH}`}
            className="absolute inset-0 w-full h-full pointer-events-none"
            aria-hidden="true"
          >
            <circle cx={at[0]} cy={at[1]} r={11} fill="none" stroke="#fff" strokeWidth={5} />
            <circle cx={at[0]} cy={at[1]} r={11} fill="none" stroke="#17252b" strokeWidth={2} />
          </svg>
        )}
      </div>
    </div>
  );
}
