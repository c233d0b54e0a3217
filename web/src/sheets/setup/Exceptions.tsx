import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Pick } from "../../ui/Pick";
import type { Edits } from "./edits";
import { Value } from "./Value";
import { meaning, show } from "./values";

type Sheet = Schemas["SetupSheet"];
type Table = Sheet["tables"][number];
const ONE: Record<string, string> = { nodes: "node", materials: "material", meshes: "mesh", lights: "light" };
const KEYS_OFFERED = 300;

/** What single assets have for themselves, and why; an asset is chosen to give it more. */
export function Exceptions({ setup, edits, find }: { setup: Sheet; edits: Edits; find: string }) {
  const [chosen, setChosen] = useState<{ table: string; key: string }>({ table: "nodes", key: "" });
  const table = setup.tables.find((t) => t.table === chosen.table);
  const word = find.toLowerCase();
  const rows = setup.exceptions.filter((e) =>
    `${ONE[e.table]} ${e.key} ${e.field} ${e.reason}`.toLowerCase().includes(word),
  );
  return (
    <section aria-labelledby="section-exceptions" className="mt-8">
      <h2 id="section-exceptions" className="scroll-mt-3">
        Exceptions by asset
      </h2>
      <p className="second">
        {setup.exceptions.length === 0
          ? "No asset has anything for itself."
          : `${setup.exceptions.length} field${setup.exceptions.length === 1 ? " is" : "s are"} set for one asset alone.`}
      </p>
      {rows.length > 0 && (
        <table className="sheet-table mt-1">
          <thead>
            <tr>
              <th>Asset</th>
              <th>Field</th>
              <th>Value</th>
              <th>Otherwise</th>
              <th>Why</th>
              <th>
                <span className="sr-only">Change</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((e) => (
              <tr key={`${e.table} ${e.key} ${e.field}`}>
                <td>
                  <span className="second">{ONE[e.table]}</span> <b className="num">{e.key}</b>
                </td>
                <td className="num">{e.field}</td>
                <td className="num font-bold">{show(e.value)}</td>
                <td className="num second">{show(e.default)}</td>
                <td className="second">{e.reason || "came in with the build"}</td>
                <td>
                  <button
                    type="button"
                    className="btn btn-xs"
                    aria-label={`Change ${e.field} of ${e.key}`}
                    onClick={() => setChosen({ table: e.table, key: e.key })}
                  >
                    Change
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="flex gap-3 items-end mt-3 flex-wrap">
        <Pick
          above
          label="Kind"
          value={chosen.table}
          options={setup.tables.map((t) => ({ value: t.table, words: ONE[t.table] }))}
          pick={(table) => setChosen({ table, key: "" })}
          className="w-32"
        />
        <label className="flex flex-col gap-1">
          Asset
          <input
            className="input input-sm w-64"
            list="assets"
            placeholder="begin to type its name"
            value={chosen.key}
            onChange={(e) => setChosen({ ...chosen, key: e.target.value })}
          />
          <datalist id="assets">
            {offered(table, chosen.key).map((k) => (
              <option key={k} value={k} />
            ))}
          </datalist>
        </label>
      </div>
      {table?.keys.includes(chosen.key) && (
        <Own table={table} asset={chosen.key} setup={setup} edits={edits} />
      )}
      {chosen.key !== "" && !table?.keys.includes(chosen.key) && (
        <p className="second mt-1">No {ONE[chosen.table]} has this name.</p>
      )}
    </section>
  );
}

const offered = (table: Table | undefined, typed: string) =>
  (table?.keys ?? []).filter((k) => k.toLowerCase().includes(typed.toLowerCase())).slice(0, KEYS_OFFERED);

type OwnOf = { table: Table; asset: string; setup: Sheet; edits: Edits };

/** The fields that one asset may have for itself. */
function Own({ table, asset, setup, edits }: OwnOf) {
  return (
    <table className="sheet-table mt-2">
      <thead>
        <tr>
          <th className="w-[168px]">Field</th>
          <th>Meaning</th>
          <th>Unit</th>
          <th>Value</th>
        </tr>
      </thead>
      <tbody>
        {table.fields.map((f) => {
          const path = [table.table, asset, f.field];
          const own = setup.exceptions.find(
            (e) => e.table === table.table && e.key === asset && e.field === f.field,
          );
          const value = own ? own.value : f.default;
          const edit = edits.of(path);
          const label = `${asset}: ${f.field}`;
          return (
            <tr key={f.field}>
              <td>
                <b>{f.name}</b>
                <span className="num second block">{f.field}</span>
              </td>
              <td className="second">
                {meaning(f.meaning)} <span className="num">({f.affects.join(", ")})</span>
              </td>
              <td className="num">{f.unit === "-" ? "" : f.unit}</td>
              <td className="whitespace-nowrap">
                {edit ? (
                  <Value
                    label={`Value of ${label}`}
                    form={f.form}
                    text={edit.text}
                    set={(text) => edits.write(path, text)}
                  />
                ) : (
                  <span className={`num mr-2 ${own ? "font-bold" : "second"}`}>{show(value)}</span>
                )}{" "}
                <button
                  type="button"
                  className="btn btn-xs"
                  aria-label={`${edit ? "Take out" : "Try a value for"} ${label}`}
                  onClick={() => (edit ? edits.take(path) : edits.begin(path, label, f.form, value))}
                >
                  {edit ? "Take out" : "Try a value"}
                </button>
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
