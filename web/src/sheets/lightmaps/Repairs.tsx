import { useState } from "react";
import type { CopyRemedy, PageAnswer } from "../../api/client";
import { assetPath, csrf } from "../../api/client";
import { useAsk, useKeep } from "../../api/writes";
import { Failed } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import { useCopies, type Where } from "./useLightmap";

export type WhatIf = { title: string; change: Record<string, unknown>; answer: PageAnswer };

/** Asks what a page would be after a change, and keeps the change. */
export function useRepairs(w: Where, show: (w: WhatIf | null) => void) {
  const tried = useAsk(
    async (change: Record<string, unknown>): Promise<WhatIf> => {
      const answer = await fetch(
        `${assetPath(w.project, w.build, w.asset)}/what-if${w.target ? `?target=${encodeURIComponent(w.target)}` : ""}`,
        {
          method: "POST",
          headers: { "X-CSRFToken": csrf(), "Content-Type": "application/json" },
          body: JSON.stringify({ change }),
        },
      );
      const body = await answer.json().catch(() => ({}));
      if (!answer.ok) throw new Error(body.detail ?? `It could not be tried (${answer.status}).`);
      return { title: String(change.title || "the change"), change, answer: body as PageAnswer };
    },
    (found) => show(found),
  );
  const kept = useKeep(w.project, w.build, () => show(null));
  const keep = (change: Record<string, unknown>) =>
    kept.mutate({ change, evidence: { from: "lightmaps" }, reason: "" });
  return { tried, keep, kept };
}

type Acts = ReturnType<typeof useRepairs>;

const operation = (mesh: string, name: string, title: string, params: Record<string, unknown> = {}) => ({
  id: `${name}:${mesh}`,
  title,
  scope: "mesh",
  reason: "lightmap charts",
  operation: { name, params: { mesh, ...params } },
});

/** Copies as rules, and every way to part them, tried. */
export function Copies({ where, acts, chosen }: { where: Where; acts: Acts; chosen: WhatIf | null }) {
  const copies = useCopies(where, true);
  const rules = Object.entries(copies.data?.rules ?? {});
  return (
    <section aria-label="Copies">
      <h2 className="flex justify-between">
        Copies <span className="num second font-normal">what if</span>
      </h2>
      {copies.isPending && (
        <p role="status" className="second">
          Trying every way to part them…
        </p>
      )}
      <Failed error={copies.error} />
      <ul>
        {rules.map(([name, rule]) => (
          <li key={name} className="flex justify-between border-b hair py-1">
            <b>{ruleWords(name, rule)}</b>
            <span className="num">{offsetWords(rule)}</span>
          </li>
        ))}
        {copies.data?.remedies.map((r) => (
          <Remedy
            key={r.title}
            of={r}
            acts={acts}
            pressed={chosen !== null && chosen.title === r.change?.title}
          />
        ))}
      </ul>
    </section>
  );
}

type Rule = NonNullable<ReturnType<typeof useCopies>["data"]>["rules"][string];

const ruleWords = (name: string, r: Rule) =>
  `${name}: ${r.kind}${r.kind === "mirror" ? ` ${r.planes?.map((p) => p.axis).join(" and ")}` : ""}${r.kind === "array" ? ` of ${r.count}` : ""}${r.kind === "shell" ? `, edge strip ${r.strip}` : ""}`;

const stepWords = ([u = 0, v = 0]: number[]) =>
  [u ? `U ${u > 0 ? "+" : ""}${u}` : "", v ? `V ${v > 0 ? "+" : ""}${v}` : ""].filter(Boolean).join(" ") ||
  "same place";

function offsetWords(r: Rule): string {
  const planes = r.planes ?? [];
  const said =
    r.kind === "mirror"
      ? planes.map((p) => `${p.axis}: ${stepWords(p.uv_offset)}`).join(" · ")
      : stepWords(r.uv_offset);
  return `${said}${r.material ? ` · ${r.material}` : ""}`;
}

function Remedy({ of, acts, pressed }: { of: CopyRemedy; acts: Acts; pressed: boolean }) {
  const change = of.change;
  return (
    <li className="border-b hair py-1 flex justify-between gap-2 items-start">
      <button
        type="button"
        className="text-left"
        aria-pressed={pressed}
        disabled={!change}
        onClick={() => change && acts.tried.mutate(change)}
      >
        <span className={pressed ? "font-bold" : ""}>{of.title}</span>{" "}
        <span className={`num ${of.cures ? "text-success" : "text-error"}`}>
          {percent(of.surface_share, 0)} shared
        </span>
        <span className="second block text-[11px] leading-tight">
          {figure(of.texels_per_m)} texels/m{of.price ? `; ${of.price}` : ""}
        </span>
      </button>
      {change && (
        <button
          type="button"
          className="btn btn-xs"
          aria-label={`keep ${of.title}`}
          disabled={acts.kept.isPending}
          onClick={() => acts.keep(change)}
        >
          Keep
        </button>
      )}
    </li>
  );
}

/** Packing, aligning and joining charts: tried on the page first, kept after. */
export function Repairs({ mesh, acts }: { mesh: string; acts: Acts }) {
  const [mip, setMip] = useState("1");
  const [density, setDensity] = useState("");
  const tries: [string, () => Record<string, unknown>][] = [
    [
      "Pack",
      () =>
        operation(
          mesh,
          "uv.pack",
          `pack the charts of ${mesh}, safe to mip ${mip}${density ? `, ${density} texels/m` : ""}`,
          {
            safe_mip: Number(mip),
            ...(density ? { texels_per_m: Number(density) } : {}),
          },
        ),
    ],
    ["Align to the grid", () => operation(mesh, "uv.align", `align the charts of ${mesh} to the texel grid`)],
    ["Join split charts", () => operation(mesh, "uv.join", `join the split charts of ${mesh}`)],
    ["Unwrap anew", () => operation(mesh, "uv.repack", `unwrap ${mesh} anew`)],
  ];
  return (
    <section aria-label="Charts anew">
      <h2>Charts anew</h2>
      <div className="flex gap-3 items-end mt-1">
        <label className="flex flex-col">
          <span className="second">safe to mip</span>
          <select className="select select-sm w-16" value={mip} onChange={(e) => setMip(e.target.value)}>
            {[0, 1, 2, 3, 4].map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col">
          <span className="second">texels/m</span>
          <input
            className="input input-sm num w-20"
            placeholder="most"
            value={density}
            onChange={(e) => setDensity(e.target.value)}
          />
        </label>
      </div>
      <div className="flex gap-2 mt-2 flex-wrap">
        {tries.map(([name, change]) => (
          <button
            key={name}
            type="button"
            className="btn btn-sm"
            disabled={acts.tried.isPending}
            onClick={() => acts.tried.mutate(change())}
          >
            {name}
          </button>
        ))}
      </div>
      {acts.tried.isPending && (
        <p role="status" className="second mt-1">
          Trying it…
        </p>
      )}
      <Failed error={acts.tried.error ?? acts.kept.error} />
    </section>
  );
}
