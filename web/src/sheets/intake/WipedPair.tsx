import { useRef, useState } from "react";
import { Picture } from "../../ui/Picture";
import { Label, Wipe } from "../../ui/Wipe";

type Side = { src: string; alt: string; label: string };

/** Two frames of one viewpoint with a wipe between them; without the first, the second alone. */
export function WipedPair({ before, after }: { before?: Side; after: Side }) {
  const [at, set] = useState(0.5);
  const box = useRef<HTMLDivElement>(null);
  const follow = (x: number) => {
    const r = box.current?.getBoundingClientRect();
    if (r) set(Math.min(0.995, Math.max(0.005, (x - r.left) / r.width)));
  };
  return (
    <div
      ref={box}
      className="stage relative aspect-video mt-1 max-w-[720px] overflow-hidden touch-none"
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        follow(e.clientX);
      }}
      onPointerMove={(e) => e.buttons === 1 && follow(e.clientX)}
    >
      <Picture className="absolute inset-0 w-full h-full" src={after.src} alt={after.alt} />
      {before && (
        <>
          <div className="absolute inset-0" style={{ clipPath: `inset(0 ${(1 - at) * 100}% 0 0)` }}>
            <Picture className="w-full h-full" src={before.src} alt={before.alt} />
          </div>
          <Wipe at={at} set={set} />
          <Label side="left" text={before.label} />
        </>
      )}
      <Label side="right" text={after.label} />
    </div>
  );
}
