import { useState } from "react";
import type { Explanation } from "../../api/client";
import { Failed } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import { effectWords } from "./words";

const THIN = "\u202f";
const LEAST = 0.005;
const lux = (v: number) => `${figure(v)}${THIN}lx`;

/** Why a texel is as it is: each cause taken away alone, what is left when all are, and what nothing explains. */
export function Why({
  found,
  texel,
  pending,
  error,
  ask,
}: {
  found: Explanation | undefined;
  texel: [number, number] | null;
  pending: boolean;
  error: unknown;
  ask: (texel: [number, number]) => void;
}) {
  return (
    <section aria-label="Why this texel">
      <h2 className="flex justify-between items-baseline">
        {found ? heading(found) : "Why this texel"}
        <TexelField texel={texel} ask={ask} />
      </h2>
      {!texel && (
        <p className="second mt-1">
          Click a texel on the page or a pixel in the frame, or type it: every cause is taken away by itself
          and the texel made again.
        </p>
      )}
      {pending && (
        <p role="status" className="second mt-1">
          Tracing its light again, once for each cause…
        </p>
      )}
      <Failed error={error} />
      {found && <Found of={found} />}
    </section>
  );
}

function heading(e: Explanation): string {
  if (e.healthy) return "This texel is healthy";
  return e.value_lux > e.reference_lux ? "Why this texel is too bright" : "Why this texel is too dark";
}

function TexelField({ texel, ask }: { texel: [number, number] | null; ask: (t: [number, number]) => void }) {
  const said = texel ? texel.join(", ") : "";
  const [text, setText] = useState(said);
  const [shown, setShown] = useState(said);
  if (shown !== said) {
    setShown(said);
    setText(said);
  }
  return (
    <input
      className="input input-xs num w-[76px] text-right"
      aria-label="texel to ask about"
      placeholder="x, y"
      value={text}
      onChange={(e) => setText(e.target.value)}
      onKeyDown={(e) => {
        const at = text.split(",").map((v) => Number(v.trim()));
        if (e.key === "Enter" && at.length === 2 && at.every(Number.isInteger)) ask(at as [number, number]);
      }}
    />
  );
}

function Found({ of }: { of: Explanation }) {
  const shown = of.effects.filter((e) => Math.abs(e.share) >= LEAST && Math.abs(e.effect_lux) > 0);
  const first = of.healthy ? undefined : shown[0];
  return (
    <>
      <p className="second mt-1">
        It holds <b className="num">{lux(of.value_lux)}</b>; its surface by itself would give{" "}
        <b className="num">{lux(of.reference_lux)}</b> <span className="num">±{lux(of.noise_lux)}</span>.{" "}
        {of.facts.drawable}
        {of.facts.owned ? "" : ", beside its chart: the nearest texel of it stands for this one"}.
      </p>
      {of.healthy && <p className="text-success mt-1">✓ No cause changes it beyond its noise.</p>}
      <ul className="mt-1" aria-label="Causes, strongest first">
        {shown.map((e) => (
          <li key={e.code} className="border-b hair py-[5px] grid grid-cols-[1fr_76px] gap-2 items-center">
            <span>
              <b>{e.title}</b> <span className="second num">{e.code}</span>
              {!of.healthy && (
                <span className="block h-[7px] bg-base-300 mt-[3px] relative" aria-hidden="true">
                  <span
                    className={`absolute inset-y-0 left-0 ${e === first ? "bg-error" : "bg-primary"}`}
                    style={{ width: `${Math.min(Math.abs(e.share), 1) * 100}%` }}
                  />
                </span>
              )}
            </span>
            <span className="num text-right">
              {/* A share of next to nothing says nothing. */}
              {!of.healthy && <b>{percent(e.share, 0)}</b>}
              <span className="second block">→ {lux(e.without_lux)}</span>
            </span>
          </li>
        ))}
      </ul>
      <table className="w-full mt-1">
        <tbody>
          <Line name="All of them taken away" value={of.all_removed_lux} />
          <Line name="Unexplained" value={of.unexplained_lux} />
        </tbody>
      </table>
      {shown.length > 1 && !of.healthy && (
        <p className="second text-[11px] leading-tight">
          Shares of what is wrong; causes overlap, so they need not add up to 100 %.
        </p>
      )}
      {first && (
        <div className="border border-accent border-l-[5px] bg-base-100 px-3 py-2 mt-2" data-testid="cause">
          <b>{first.title}</b>
          <p className="second">{effectWords(first)}</p>
        </div>
      )}
    </>
  );
}

function Line({ name, value }: { name: string; value: number }) {
  return (
    <tr>
      <td className="second">{name}</td>
      <td className="num text-right">{lux(value)}</td>
    </tr>
  );
}
