import { type PointerEvent, useState } from "react";
import { Picture } from "../../ui/Picture";
import { Label, Wipe } from "../../ui/Wipe";
import type { Look } from "../look";
import { pixelAt, Ring } from "../pixel";
import { type Pose, pictureUrl } from "./queries";

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
    pick(pixelAt(e));
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
          alt="with every pixel's layers as they lie"
          className={layer}
          style={{ clipPath: `inset(0 0 0 ${wipe * 100}%)` }}
          draggable={false}
        />
        <Wipe at={wipe} set={setWipe} />
        <Label side="left" text={there.drawn === drawn ? "as drawn" : "is being drawn"} />
        <Label side="right" text={there.truly === truly ? "as it lies" : "is being drawn"} />
        {at && <Ring at={at} r={11} />}
      </div>
    </div>
  );
}
