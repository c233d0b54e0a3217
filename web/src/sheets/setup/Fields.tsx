import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Where } from "./Setup";
import { Trying } from "./Trying";

const LEVELS = ["default", "project", "target", "role", "viewpoint"] as const;
type Field = Schemas["SettingRow"];

/** A value as people write it. */
function show(v: unknown): string {
  if (v === undefined) return "";
  if (v === null) return "none";
  if (typeof v === "boolean") return v ? "yes" : "no";
  return Array.isArray(v) ? v.join(" ") : String(v);
}

/** The value a level sets, and whether it is the winner. */
function at(field: Field, level: string): { value: string; wins: boolean } {
  const key = Object.keys(field.levels).find((k) => k === level || k.startsWith(`${level} `));
  return { value: key ? show(field.levels[key]) : "", wins: key === field.winner };
}

export function Fields({ where, fields }: { where: Where; fields: Field[] }) {
  const [open, setOpen] = useState<string>();
  return (
    <table className="sheet-table mt-4">
      <thead>
        <tr>
          <th>Field</th>
          <th>Meaning</th>
          {LEVELS.map((l) => (
            <th key={l}>{l}</th>
          ))}
          <th>Unit</th>
          <th>
            <span className="sr-only">Try</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {fields.map((f) => (
          <Row
            key={f.path}
            field={f}
            where={where}
            open={open === f.path}
            toggle={() => setOpen(open === f.path ? undefined : f.path)}
          />
        ))}
        {fields.length === 0 && (
          <tr>
            <td colSpan={9} className="second">
              No field fits. Clear the search to see all of them.
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function Row({
  field,
  where,
  open,
  toggle,
}: {
  field: Field;
  where: Where;
  open: boolean;
  toggle: () => void;
}) {
  return (
    <>
      <tr>
        <td className="num font-semibold">
          {field.path}
          {field.differs && (
            <span className="text-accent block">
              edit {show(field.edit)} · play {show(field.play)}
            </span>
          )}
        </td>
        <td className="second">
          {field.meaning} <span className="num">({field.affects.join(", ")})</span>
        </td>
        {LEVELS.map((level) => {
          const cell = at(field, level);
          return (
            <td
              key={level}
              className={`num ${cell.wins ? "underline decoration-2 underline-offset-4 font-bold" : "second"}`}
            >
              {cell.value}
              {cell.wins && <span className="sr-only"> (in force)</span>}
            </td>
          );
        })}
        <td className="num">{field.unit === "-" ? "" : field.unit}</td>
        <td>
          <button
            type="button"
            className="btn btn-xs whitespace-nowrap"
            aria-expanded={open}
            onClick={toggle}
          >
            Try a value
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={9}>
            <Trying where={where} path={field.path} start={field.value} limits={field.limits} />
          </td>
        </tr>
      )}
    </>
  );
}
