import { useState } from "react";
import type { Edit } from "../../../api/client";
import { useRows } from "../useRows";
import { type Answer, FATES, KEYS, shown } from "./words";

const ANSWERS: readonly (readonly [Answer, string])[] = [
  ["before", "B"],
  ["yours", "K"],
  ["delivered", "D"],
];
const MARKS: Record<string, string> = {
  asked: "?",
  lost: "×",
  adapted: "≈",
  moved: "→",
  kept: "=",
  delivered: "·",
};

/** A row for each edit, what is asked first: delivered before, yours, delivered now. Up and down move, Enter tells all of it. */
export function EditTable({
  edits,
  answers,
  answer,
}: {
  edits: Edit[];
  answers: Record<string, Answer>;
  answer?: (key: string, which: Answer) => void;
}) {
  const rows = FATES.flatMap((fate) => edits.filter((e) => e.fate === fate));
  const [open, setOpen] = useState<string>();
  const { body, row } = useRows(rows.length, (key, at, onRow) => {
    const edit = rows[at];
    if (!edit) return false;
    const which = KEYS[key.toLowerCase()];
    if (key === "Enter" && onRow) setOpen(open === edit.key ? undefined : edit.key);
    else if (which && edit.fate === "asked") answer?.(edit.key, which);
    else return false;
    return true;
  });
  if (!rows.length) return null;
  return (
    <table className="sheet-table mt-3" aria-label="Edits">
      <thead>
        <tr>
          <th>Becomes</th>
          <th>Edit</th>
          <th>Before</th>
          <th>Yours</th>
          <th>Delivered</th>
        </tr>
      </thead>
      <tbody {...body}>
        {rows.map((edit, i) => (
          <Row
            key={edit.key}
            edit={edit}
            attributes={row(i)}
            chosen={answers[edit.key] ?? edit.answer ?? undefined}
            answer={edit.fate === "asked" && answer ? (which) => answer(edit.key, which) : undefined}
            open={open === edit.key}
            toggle={() => setOpen(open === edit.key ? undefined : edit.key)}
          />
        ))}
      </tbody>
    </table>
  );
}

function Row({
  edit,
  attributes,
  chosen,
  answer,
  open,
  toggle,
}: {
  edit: Edit;
  attributes: ReturnType<ReturnType<typeof useRows>["row"]>;
  chosen?: Answer;
  answer?: (which: Answer) => void;
  open: boolean;
  toggle: () => void;
}) {
  const asked = edit.fate === "asked";
  const stands = asked
    ? chosen
    : edit.fate === "delivered"
      ? "delivered"
      : edit.fate === "lost"
        ? undefined
        : "yours";
  const values: Record<Answer, unknown> = {
    before: edit.before,
    yours: edit.yours,
    delivered: edit.delivered,
  };
  const renamed = edit.to.some((name) => !edit.path.split(" ").includes(name));
  const unit = edit.path.startsWith("node.move ") ? " m" : "";
  return (
    <>
      <tr
        {...attributes}
        data-edit={edit.key}
        onDoubleClick={toggle}
        aria-label={`${edit.fate}: ${edit.path}`}
        className={asked && !chosen ? "bg-base-100" : ""}
      >
        <td className={`whitespace-nowrap ${asked || edit.fate === "lost" ? "font-semibold" : ""}`}>
          <span aria-hidden="true" className="num inline-block w-4">
            {MARKS[edit.fate]}
          </span>
          {edit.fate === "delivered" ? "delivered alike" : edit.fate}
          {asked && chosen && <span className="second">: {chosen}</span>}
        </td>
        <td className="max-w-[300px]">
          <button type="button" className="text-left break-words" aria-expanded={open} onClick={toggle}>
            <span className="num">{edit.path}</span>
          </button>
          {renamed && <span className="second num block break-words">now {edit.to.join(", ")}</span>}
        </td>
        {ANSWERS.map(([which, letter]) => (
          <td key={which} className="num">
            {answer ? (
              <button
                type="button"
                className={`btn btn-xs ${chosen === which ? "btn-primary" : ""}`}
                aria-pressed={chosen === which}
                onClick={() => answer(which)}
              >
                {shown(values[which])}
                {unit} <kbd>{letter}</kbd>
              </button>
            ) : (
              <span className={which === stands ? "font-semibold" : ""}>
                {shown(values[which])}
                {values[which] === null ? "" : unit}
              </span>
            )}
          </td>
        ))}
      </tr>
      {open && (
        <tr>
          <td />
          <td colSpan={4} className="second">
            {edit.title}: {edit.why}.
          </td>
        </tr>
      )}
    </>
  );
}
