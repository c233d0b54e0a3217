import { useEffect, useState } from "react";
import { Picture } from "../../ui/Picture";
import { Label } from "../../ui/Wipe";
import type { Look } from "../look";
import { momentUrl } from "./queries";
import { seconds } from "./words";

const REST_MS = 250; // that a moment is stayed at before its frame is drawn

/** The frame at a moment of a move, as drawn and as due under the sheet's wipe. */
export function MomentPicture(props: { look: Look; move: string; at: number; wipe: number }) {
  const { look, move, at, wipe } = props;
  const [shown, setShown] = useState(at);
  const [there, setThere] = useState<number | null>(null);
  useEffect(() => {
    const timer = setTimeout(() => setShown(at), REST_MS);
    return () => clearTimeout(timer);
  }, [at]);
  const layer = "absolute inset-0 w-full h-full select-none [image-rendering:pixelated]";
  return (
    <div className="stage p-2 mt-2" data-testid="moment">
      <div className="relative aspect-video">
        <Picture
          src={momentUrl(look, move, shown, "standin")}
          alt={`${move} at ${seconds(shown)} as drawn`}
          className={layer}
          draggable={false}
          settled={() => setThere(shown)}
        />
        <Picture
          src={momentUrl(look, move, shown, "reference")}
          alt={`${move} at ${seconds(shown)} as due`}
          className={layer}
          style={{ clipPath: `inset(0 0 0 ${wipe * 100}%)` }}
          draggable={false}
        />
        <Label
          side="left"
          text={there === at ? `as drawn, ${seconds(at)}` : `${seconds(at)} is being drawn`}
        />
        <Label side="right" text="as due" />
      </div>
    </div>
  );
}
