import type { ReactNode } from "react";
import { useStops } from "./exposure";

export function Controls(props: {
  setBefore: (v: boolean) => void;
  against: "before" | "capture";
  setAgainst?: (v: "before" | "capture") => void;
  loupe: boolean;
  setLoupe: (v: boolean) => void;
  children: ReactNode;
}) {
  return (
    <div className="flex items-end gap-3 flex-wrap">
      {props.children}
      <div className="flex-1" />
      {props.setAgainst && (
        <label className="flex flex-col">
          <span className="second">Wipe against</span>
          <select
            className="select select-xs w-28"
            value={props.against}
            onChange={(e) => props.setAgainst?.(e.target.value as "before" | "capture")}
          >
            <option value="before">before</option>
            <option value="capture">your capture</option>
          </select>
        </label>
      )}
      <ExposureField />
      <button
        type="button"
        className="btn btn-xs"
        aria-pressed={props.loupe}
        onClick={() => props.setLoupe(!props.loupe)}
      >
        Loupe<kbd>G</kbd>
      </button>
      <button
        type="button"
        className="btn btn-xs"
        onPointerDown={() => props.setBefore(true)}
        onPointerUp={() => props.setBefore(false)}
        onPointerLeave={() => props.setBefore(false)}
      >
        Before<kbd>B</kbd>
      </button>
    </div>
  );
}

function ExposureField() {
  const [stops, setStops] = useStops();
  return (
    <label className="flex flex-col">
      <span className="second">
        Exposure{" "}
        <span className="num">
          {stops > 0 ? "+" : ""}
          {stops.toFixed(1)} EV
        </span>
      </span>
      <input
        className="range range-xs w-24"
        type="range"
        min={-4}
        max={4}
        step={0.1}
        value={stops}
        onChange={(e) => setStops(Number(e.target.value))}
      />
    </label>
  );
}
