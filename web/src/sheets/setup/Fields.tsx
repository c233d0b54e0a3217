import type { Schemas } from "../../api/client";
import type { Edits } from "./edits";
import { Value } from "./Value";
import { meaning, show } from "./values";

const LEVELS = ["default", "project", "target", "role", "viewpoint"] as const;
export type Field = Schemas["SettingRow"];

/** The value a level sets, and whether it is the winner. */
function at(field: Field, level: string): { value: string; wins: boolean } {
  const key = Object.keys(field.levels).find((k) => k === level || k.startsWith(`${level} `));
  return { value: key ? show(field.levels[key]) : "", wins: key === field.winner };
}

const rank = (f: Field) => (f.differs ? 0 : f.winner !== "default" ? 1 : 2);

/** One section of the settings, what was changed first. */
export function Fields({ section, fields, edits }: { section: string; fields: Field[]; edits: Edits }) {
  return (
    <section aria-labelledby={`section-${section}`} className="mt-5">
      <h2 id={`section-${section}`} className="scroll-mt-3">
        {section}
      </h2>
      <table className="sheet-table table-fixed mt-1">
        <thead>
          <tr>
            <th className="w-[168px]">Field</th>
            <th>Meaning</th>
            {LEVELS.map((l) => (
              <th key={l} className="w-[76px]">
                {l}
              </th>
            ))}
            <th className="w-[48px]">Unit</th>
            <th className="w-[104px]">
              <span className="sr-only">Try</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {fields
            .toSorted((a, b) => rank(a) - rank(b))
            .map((f) => (
              <Row key={f.path} field={f} edits={edits} />
            ))}
        </tbody>
      </table>
    </section>
  );
}

function Row({ field, edits }: { field: Field; edits: Edits }) {
  const path = [field.section, field.field];
  const edit = edits.of(path);
  return (
    <>
      <tr>
        <td>
          <b>{field.name}</b>
          <span className="num second block">{field.path}</span>
          {field.differs && (
            <span className="text-accent block">
              edit {show(field.edit)} · play {show(field.play)}
            </span>
          )}
        </td>
        <td className="second">
          {meaning(field.meaning)} <span className="num">({field.affects.join(", ")})</span>
          {field.reason && <span className="text-accent block">Kept: {field.reason}</span>}
        </td>
        {LEVELS.map((level) => {
          const cell = at(field, level);
          return (
            <td
              key={level}
              className={`num break-words ${cell.wins ? "underline decoration-2 underline-offset-4 font-bold" : "second"}`}
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
            aria-expanded={edit !== undefined}
            aria-label={`Try a value for ${field.path}`}
            onClick={() => (edit ? edits.take(path) : edits.begin(path, field.path, field.form, field.value))}
          >
            {edit ? "Take out" : "Try a value"}
          </button>
        </td>
      </tr>
      {edit && (
        <tr>
          <td colSpan={9} className="text-right">
            {field.name}{" "}
            <Value
              label={`Value of ${field.path}`}
              form={field.form}
              text={edit.text}
              set={(text) => edits.write(path, text)}
            />
          </td>
        </tr>
      )}
    </>
  );
}
