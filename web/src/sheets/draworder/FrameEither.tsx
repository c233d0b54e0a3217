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
  edges: boolean;
};

/** The frame of what is looked at: as drawn on the left of the wipe; on the right every pixel's layers in their true order, or edges put right. */
export function FrameEither({ look, pose, wipe, setWipe, at, pick, edges }: Props) {
  const ask = (e: PointerEvent) => {
    if (e.target instanceof HTMLElement && e.target.closest("[role=slider]")) return;
    pick(pixelAt(e));
  };
  const layer = "absolute inset-0 w-full h-full select-none";
  const [drawn, truly] = [pictureUrl(look, pose, "drawn"), pictureUrl(look, pose, edges ? "right" : "true")];
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
          alt={edges ? "with edges put right" : "with every pixel's layers as they lie"}
          className={layer}
          style={{ clipPath: `inset(0 0 0 ${wipe * 100}%)` }}
          draggable={false}
        />
        <Wipe at={wipe} set={setWipe} />
        <Label side="left" text={there.drawn === drawn ? "as drawn" : "is being drawn"} />
        <Label
          side="right"
          text={there.truly !== truly ? "is being drawn" : edges ? "put right" : "as it lies"}
        />
        {at && <Ring at={at} r={11} />}
      </div>
    </div>
  );
}
