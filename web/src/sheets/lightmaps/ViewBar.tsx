import { figure } from "../../ui/words";
import type { Mode } from "./draw";
import { scaleGradient } from "./scale";
import type { Showing } from "./useLightmap";

const MODES: Mode[] = ["charts", "bake", "density"];

export function ModeBar({ mode, choose }: { mode: Mode; choose: (m: Mode) => void }) {
  return (
    <fieldset className="flex gap-2" aria-label="Show">
      {MODES.map((m) => (
        <button
          key={m}
          type="button"
          aria-pressed={m === mode}
          className={`btn btn-sm ${m === mode ? "btn-neutral" : ""}`}
          onClick={() => choose(m)}
        >
          {m}
        </button>
      ))}
    </fieldset>
  );
}

/** The build as it came in, for as long as it is pressed or B is held. */
export function BeforeButton({
  state,
  show,
}: {
  state: Showing["state"];
  show: (s: Showing["state"]) => void;
}) {
  const built = state === "built";
  return (
    <button
      type="button"
      className={`btn btn-sm ${built ? "btn-neutral" : ""}`}
      aria-pressed={built}
      onClick={() => show(built ? "head" : "built")}
    >
      As it came in<kbd>B</kbd>
    </button>
  );
}

type Props = {
  mode: Mode;
  showing: Showing;
  show: (s: Partial<Showing>) => void;
  white: number | undefined;
  densities: [number, number];
  download: string;
};

/** How the page is shown: its key, or how the map is read, smoothed and stored. */
export function ViewBar({ mode, showing, show, white, densities, download }: Props) {
  return (
    <div className="flex gap-3 items-center flex-wrap min-h-[30px]">
      {mode === "charts" && <Key />}
      {mode === "density" && <Density range={densities} />}
      {mode === "bake" && (
        <>
          <Choice
            label="Read"
            value={showing.filter}
            show={(filter) => show({ filter })}
            options={[
              ["nearest", "nearest"],
              ["linear", "linear"],
            ]}
          />
          <Choice
            label="Denoise"
            value={showing.denoise}
            show={(denoise) => show({ denoise })}
            options={[
              ["", "as stored"],
              ["off", "off"],
              ["within_charts", "within charts"],
              ["across_gaps", "across gaps"],
            ]}
          />
          <Choice
            label="Depth"
            value={showing.encoding}
            show={(encoding) => show({ encoding })}
            options={[
              ["", "as stored"],
              ["srgb8", "8 bit"],
              ["linear16", "16 bit"],
              ["half", "half float"],
            ]}
          />
          <label className="flex gap-2 items-center">
            brighter
            <input
              type="range"
              className="range range-xs w-20"
              min={-4}
              max={8}
              step={0.5}
              value={showing.brighter}
              onChange={(e) => show({ brighter: Number(e.target.value) })}
            />
            <span className="num">{showing.brighter} EV</span>
          </label>
          {white !== undefined && <span className="num second">white {figure(white)} lx</span>}
          <a className="underline" href={download} download>
            OpenEXR
          </a>
        </>
      )}
    </div>
  );
}

function Choice<T extends string>(props: {
  label: string;
  value: T;
  options: [T, string][];
  show: (v: T) => void;
}) {
  return (
    <label className="flex gap-1 items-center">
      <span className="second">{props.label}</span>
      <select
        className="select select-xs w-auto"
        value={props.value}
        onChange={(e) => props.show(e.target.value as T)}
      >
        {props.options.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}

function Key() {
  const items: [string, string][] = [
    ["border-primary bg-primary/20", "chart"],
    ["border-primary bg-warning/20", "mirrored"],
    ["border-warning border-2", "skewed"],
    ["border-error hatched", "shared"],
    ["border-accent border-dashed border-2", "needless split"],
    ["border-accent", "leak"],
  ];
  return (
    <ul className="flex gap-3 flex-wrap" aria-label="Key">
      {items.map(([look, words]) => (
        <li key={words} className="flex gap-1 items-center second">
          <span className={`inline-block w-[13px] h-[11px] border ${look}`} aria-hidden="true" />
          {words}
        </li>
      ))}
    </ul>
  );
}

function Density({ range: [low, high] }: { range: [number, number] }) {
  return (
    <div className="flex gap-2 items-center num">
      {figure(low)}
      <span
        className="inline-block w-40 h-[10px] border border-base-300"
        style={{ background: scaleGradient }}
        aria-hidden="true"
      />
      {figure(high)} texels/m
    </div>
  );
}
