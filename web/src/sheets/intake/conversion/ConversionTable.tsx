import { useState } from "react";
import type { Schemas } from "../../../api/client";
import { figure } from "../../../ui/words";
import { useRows } from "../useRows";

type Row = Schemas["ConversionDocument"];
const TOLD = ["base_rgb", "alpha", "metallic", "roughness", "ior", "specular", "emissive_rgb"];
const WORDS: Record<string, string> = {
  as_is: "as it is",
  one_minus: "1 less it",
  square: "squared",
  root: "its root",
  hundredth: "a hundredth",
  srgb: "decoded from sRGB",
};

export function told(value: unknown): string {
  if (Array.isArray(value)) return value.map((v) => figure(v as number)).join(" ");
  return typeof value === "number" ? figure(value) : "–";
}

/** A row for each material; Enter tells what becomes of each of its values and pictures. */
export function ConversionTable({
  rows,
  chosen,
  keep,
  alone,
}: {
  rows: Row[];
  chosen?: string[];
  keep: () => void;
  alone: (material: string) => void;
}) {
  const [open, setOpen] = useState<string | undefined>(rows[0]?.material);
  const toggle = (material: string) => setOpen(open === material ? undefined : material);
  const { body, row } = useRows(rows.length, (key, at, onRow) => {
    const material = rows[at]?.material;
    if (key === "Enter" && onRow && material) toggle(material);
    else if (key.toLowerCase() === "k") keep();
    else return false;
    return true;
  });
  return (
    <table className="sheet-table" aria-label="Materials">
      <thead>
        <tr>
          <th>Material</th>
          <th>Base shader</th>
          <th>Becomes</th>
          <th>Says then</th>
        </tr>
      </thead>
      <tbody {...body}>
        {rows.map((r, i) => (
          <MaterialRows
            key={r.material}
            of={r}
            attributes={row(i)}
            open={open === r.material}
            toggle={() => toggle(r.material)}
            chosen={chosen ? chosen.includes(r.material) : r.kind === "converts"}
            alone={() => alone(r.material)}
          />
        ))}
      </tbody>
    </table>
  );
}

function MaterialRows({
  of,
  attributes,
  open,
  toggle,
  chosen,
  alone,
}: {
  of: Row;
  attributes: ReturnType<ReturnType<typeof useRows>["row"]>;
  open: boolean;
  toggle: () => void;
  chosen: boolean;
  alone: () => void;
}) {
  return (
    <>
      <tr {...attributes} aria-label={`${of.material}: ${chosen ? `becomes ${of.after}` : "stays as it is"}`}>
        <td>
          <button type="button" className="text-left font-semibold" aria-expanded={open} onClick={toggle}>
            {of.material}
          </button>
        </td>
        <td className="num">{of.before}</td>
        <td>
          {chosen ? <span className="num">{of.after}</span> : <b>special: stays as it is</b>}
          {of.how && <span className="second block">{of.how}</span>}
        </td>
        <td className="num">{of.factors && chosen ? summary(of.factors) : "–"}</td>
      </tr>
      {open && (
        <tr>
          <td />
          <td colSpan={3}>
            {of.why.map((w) => (
              <p key={w}>{w}</p>
            ))}
            {of.values.length > 0 && <Values of={of} />}
            {of.pictures.map((p) => (
              <p key={p.role} className="second">
                {p.role.replaceAll("_", " ")}: <span className="num">{p.bound ?? "none"}</span> {p.fate}
                {p.default && `, ${p.default} shows`}
              </p>
            ))}
            {of.kind === "special" && of.change && (
              <button type="button" className="btn btn-xs mt-2" onClick={alone}>
                {chosen ? "Leave it as it is" : "Convert it all the same"}
              </button>
            )}
          </td>
        </tr>
      )}
    </>
  );
}

function summary(factors: Record<string, unknown>): string {
  const usual: Record<string, unknown> = { alpha: 1, ior: 1.5, specular: 1, metallic: 0 };
  return TOLD.filter(
    (role) => factors[role] !== undefined && told(factors[role]) !== told(usual[role] ?? [0, 0, 0]),
  )
    .map((role) => `${role.replace("_rgb", "").replaceAll("_", " ")} ${told(factors[role])}`)
    .join(", ");
}

function Values({ of }: { of: Row }) {
  return (
    <table className="sheet-table" aria-label={`Values of ${of.material}`}>
      <thead>
        <tr>
          <th>Value</th>
          <th>Says</th>
          <th>Role</th>
          <th>How</th>
          <th>Comes to</th>
        </tr>
      </thead>
      <tbody>
        {of.values.map((m) => (
          <tr key={m.name}>
            <td>{m.name}</td>
            <td className="num">
              {told(m.said)}
              {m.unit === "-" ? "" : ` ${m.unit}`}
            </td>
            <td>{m.role?.replace("_rgb", " colour").replaceAll("_", " ") ?? <b>no place</b>}</td>
            <td className="second">{m.role ? WORDS[m.how] : "no other base shader has it"}</td>
            <td className="num">{told(m.comes_to)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
