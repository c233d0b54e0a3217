import type { Schemas } from "../../api/client";
import type { Edits } from "./edits";
import type { Form } from "./values";

const YES_NO: Form = { kind: "yes_no", choices: [], limits: "", optional: false };

/** Which passes each shader has, and which shader each material takes. */
export function Shaders({
  setup,
  find,
  edits,
}: {
  setup: Schemas["SetupSheet"];
  find: string;
  edits: Edits;
}) {
  const word = find.toLowerCase();
  const shaders = setup.shaders.filter((s) => [s.key, ...s.materials].join(" ").toLowerCase().includes(word));
  const materials = setup.materials.filter((m) => `${m.key} ${m.shader}`.toLowerCase().includes(word));
  const passes = Object.keys(shaders[0]?.passes ?? {});
  if (!shaders.length && !materials.length) return null;
  return (
    <div className="grid gap-8 xl:grid-cols-2 mt-8">
      <section aria-labelledby="section-shaders">
        <h2 id="section-shaders" className="scroll-mt-3">
          Shaders and their passes
        </h2>
        <table className="sheet-table mt-1">
          <thead>
            <tr>
              <th>Shader</th>
              {passes.map((p) => (
                <th key={p}>{p}</th>
              ))}
              <th>Materials</th>
            </tr>
          </thead>
          <tbody>
            {shaders.map((s) => (
              <tr key={s.key}>
                <td>
                  <span className="num font-semibold">{s.key}</span>
                  {!(s.works ?? true) && (
                    <span className="block text-error">
                      no version here: error colour
                      {s.works_on?.length ? `; for ${s.works_on.join(", ")}` : ""}
                    </span>
                  )}
                </td>
                {passes.map((p) => (
                  <td key={p}>
                    <Toggle shader={s.key} pass={p} has={s.passes[p] ?? false} edits={edits} />
                  </td>
                ))}
                <td className="second">{s.materials.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <section>
        <h2>Materials</h2>
        <table className="sheet-table mt-1">
          <thead>
            <tr>
              <th>Material</th>
              <th>Shader</th>
              <th>Blend</th>
              <th>Double-sided</th>
            </tr>
          </thead>
          <tbody>
            {materials.map((m) => (
              <tr key={m.key}>
                <td className="num font-semibold">{m.key}</td>
                <td className="num">{m.shader}</td>
                <td>{m.blend}</td>
                <td>{m.double_sided ? "yes" : "no"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}

type ToggleOf = { shader: string; pass: string; has: boolean; edits: Edits };

function Toggle({ shader, pass, has, edits }: ToggleOf) {
  const path = ["shaders", shader, "passes", pass];
  const edit = edits.of(path);
  const words = has ? "yes" : "missing";
  return (
    <button
      type="button"
      className={`num px-1 ${edit ? "text-accent font-bold" : has ? "second" : "text-error font-bold"}`}
      aria-label={`${shader} ${pass}: ${words}; try the other`}
      aria-pressed={edit !== undefined}
      onClick={() =>
        edit ? edits.take(path) : edits.begin(path, `${shader}, ${pass}`, YES_NO, has, has ? "no" : "yes")
      }
    >
      {edit ? `${edit.text}?` : words}
    </button>
  );
}
