import type { ReactNode } from "react";
import { Pick } from "../ui/Pick";

type Props = {
  title: string;
  /** One line on what is looked at. */
  second: ReactNode;
  look: { viewpoint: string; target: string | null };
  viewpoints: string[];
  targets: string[];
  set: (values: Record<string, string | null>) => void;
  /** What of the address belongs to one viewpoint alone. */
  ofViewpoint?: readonly string[];
  /** What else is picked, between viewpoint and target. */
  between?: ReactNode;
  children?: ReactNode;
};

/** The head of a sheet that looks from a viewpoint: what is wrong, and where it is looked at from. */
export function SheetBar({
  title,
  second,
  look,
  viewpoints,
  targets,
  set,
  ofViewpoint = [],
  between,
  children,
}: Props) {
  const gone = Object.fromEntries(ofViewpoint.map((name) => [name, null]));
  return (
    <div className="flex items-end gap-3">
      <div className="mr-auto min-w-0">
        <h1>{title}</h1>
        {second && <p className="second">{second}</p>}
      </div>
      <Pick
        label="Viewpoint"
        above
        value={look.viewpoint}
        options={viewpoints}
        pick={(v) => set({ from: v, ...gone })}
      />
      {between}
      <Pick
        label="Target"
        above
        value={look.target ?? ""}
        options={["", ...targets]}
        pick={(v) => set({ target: v || null })}
        className="w-28"
      />
      {children}
    </div>
  );
}
