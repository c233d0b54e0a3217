import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Where } from "./Setup";
import { Trying } from "./Trying";

type Shader = { key: string; passes: Record<string, boolean>; materials: string[] };
type Material = { key: string; shader: string; blend: string; double_sided: boolean };

/** Which passes each shader has, and which shader each material takes. */
export function Shaders({
  where,
  setup,
  find,
}: {
  where: Where;
  setup: Schemas["SetupSheet"];
  find: string;
}) {
  const [open, setOpen] = useState<string>();
  const word = find.toLowerCase();
  const shaders = (setup.shaders as Shader[]).filter((s) =>
    [s.key, ...s.materials].join(" ").toLowerCase().includes(word),
  );
  const materials = (setup.materials as Material[]).filter((m) =>
    `${m.key} ${m.shader}`.toLowerCase().includes(word),
  );
  const passes = Object.keys(shaders[0]?.passes ?? {});
  if (!shaders.length && !materials.length) return null;
  const [shader, pass] = open?.split("|") ?? [];
  return (
    <div className="grid gap-8 xl:grid-cols-2 mt-8">
      <section>
        <h2>Shaders and their passes</h2>
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
                <td className="num font-semibold">{s.key}</td>
                {passes.map((p) => (
                  <td key={p}>
                    <button
                      type="button"
                      className={`num px-1 ${s.passes[p] ? "second" : "text-error font-bold"}`}
                      aria-label={`${s.key} ${p}: ${s.passes[p] ? "yes" : "missing"}; try the other`}
                      aria-expanded={open === `${s.key}|${p}`}
                      onClick={() => setOpen(open === `${s.key}|${p}` ? undefined : `${s.key}|${p}`)}
                    >
                      {s.passes[p] ? "yes" : "missing"}
                    </button>
                  </td>
                ))}
                <td className="second">{s.materials.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {shader && pass && (
          <Trying
            key={open}
            where={where}
            path={`shaders/${shader}/passes/${pass}`}
            start={!shaders.find((s) => s.key === shader)?.passes[pass]}
            limits={`${shader}, ${pass}: true | false`}
          />
        )}
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
