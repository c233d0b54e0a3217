/** The edge between two pictures laid over one another, dragged or moved by arrows; at: 0 left to 1 right. */
export function Wipe({ at, set }: { at: number; set: (v: number) => void }) {
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label="wipe"
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(at * 100)}
      className="absolute top-0 bottom-0 w-[2px] bg-white"
      style={{ left: `${at * 100}%`, boxShadow: "0 0 0 1px #0008", cursor: "ew-resize" }}
      onKeyDown={(e) => {
        const step = e.key === "ArrowLeft" ? -0.02 : e.key === "ArrowRight" ? 0.02 : 0;
        if (step) set(Math.min(0.995, Math.max(0.005, at + step)));
      }}
    >
      <span
        className="absolute top-1/2 -left-[17px] w-[36px] text-center bg-white text-[#222] text-[11px] py-[3px]"
        aria-hidden="true"
      >
        ◂ ▸
      </span>
    </div>
  );
}

/** What a side of the wipe shows. */
export function Label({ side, text }: { side: "left" | "right"; text: string }) {
  return (
    <span
      className="absolute top-2 bg-[#111c] text-white text-[11px] font-semibold px-2 py-[3px] pointer-events-none max-w-[45%] truncate"
      style={side === "left" ? { left: 8 } : { right: 8 }}
    >
      {text}
    </span>
  );
}
