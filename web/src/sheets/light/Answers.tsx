import { useState } from "react";
import { Pick } from "../../ui/Pick";
import { Failed, Skeleton } from "../../ui/state";
import { figure } from "../../ui/words";
import type { Look } from "../look";
import { OnDemand } from "./OnDemand";
import { type MaterialAnswer, useResponse, useSwap } from "./queries";

const STOCK = "stock_opaque";

/** How each material that is seen answers light: alone on a card, in place against what is due, and why one does not. */
export function Answers({ look }: { look: Look }) {
  return (
    <OnDemand
      look={look}
      name="How materials answer"
      title="How do materials answer light?"
      button="Ask what is seen"
      says="Each alone in even light and in the sun, then in place."
      useFound={useResponse}
    >
      {(answers) => <Answered look={look} answers={answers} />}
    </OnDemand>
  );
}

function Answered({ look, answers }: { look: Look; answers: MaterialAnswer[] }) {
  const [open, setOpen] = useState<string | null>(null);
  const chosen = answers.find((a) => a.material === open) ?? answers.find((a) => a.verdict !== "answers");
  return (
    <>
      <table className="sheet-table mt-1" data-testid="answers">
        <thead>
          <tr>
            <th>Material</th>
            <th>Base shader</th>
            <th className="text-right!">Alone</th>
            <th className="text-right!">In place</th>
            <th> </th>
          </tr>
        </thead>
        <tbody>
          {answers.map((a) => (
            <tr key={a.material} aria-current={a === chosen || undefined}>
              <td>
                <button type="button" className="link" onClick={() => setOpen(a.material)}>
                  {a.material}
                </button>
              </td>
              <td className="num">{a.shader}</td>
              <td className="num text-right">{a.answer.toFixed(2)}</td>
              <td className="num text-right">{a.in_place[0]?.answer.toFixed(2) ?? "–"}</td>
              <td className={BAD.has(a.verdict) ? "text-error" : "second"}>
                {BAD.has(a.verdict) ? `◆ ${a.verdict}` : a.verdict}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="second">
        Share of its own furnace value that a material is drawn with; in place: of what light's paths bring,
        worst drawable first.
      </p>
      {chosen && (
        <Why
          key={chosen.material}
          look={look}
          answer={chosen}
          shaders={[...new Set([...answers.map((a) => a.shader), STOCK])]}
        />
      )}
    </>
  );
}

const BAD = new Set(["broken", "weak"]);

/** What was put right of one material and what came of it; another base shader, rehearsed. */
function Why({ look, answer, shaders }: { look: Look; answer: MaterialAnswer; shaders: string[] }) {
  const place = answer.in_place[0];
  const [to, setTo] = useState(shaders.find((s) => s !== answer.shader) ?? STOCK);
  const [rehearsed, setRehearsed] = useState<string | null>(null);
  const swap = useSwap(look, answer.material, rehearsed);
  return (
    <>
      {place && place.tried.length > 0 && (
        <table className="sheet-table mt-2" data-testid="rivals">
          <thead>
            <tr>
              <th>
                {place.drawable}: {figure(Number(place.drawn.toPrecision(2)))} of{" "}
                {figure(Number(place.due.toPrecision(2)))} nit. If put right
              </th>
              <th className="text-right!">It answers (usual there {answer.usual.toFixed(2)})</th>
            </tr>
          </thead>
          <tbody>
            {place.tried.map((t) => {
              const cause = place.causes.some((c) => c.what.length === 1 && c.what[0] === t.what);
              return (
                <tr key={t.title}>
                  <td>
                    {cause && "✓ "}
                    {t.what}
                    <span className="second block">{t.title}</span>
                  </td>
                  <td className="num text-right">{t.answer.toFixed(2)}</td>
                </tr>
              );
            })}
            {place.causes
              .filter((c) => c.what.length > 1)
              .map((c) => (
                <tr key={c.titles.join()}>
                  <td>✓ both: {c.what.join(", and ")}</td>
                  <td className="num text-right">{c.answer.toFixed(2)}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
      <p className="mt-2 flex gap-2 items-center flex-wrap">
        <Pick
          label={`Base shader for ${answer.material}`}
          value={to}
          options={shaders.filter((s) => s !== answer.shader)}
          pick={setTo}
        />
        <button type="button" className="btn btn-sm" onClick={() => setRehearsed(to)}>
          Rehearse the swap
        </button>
        <span className="second">of {answer.material}; nothing is kept</span>
      </p>
      <Failed error={swap.error} />
      {rehearsed && swap.isPending && !swap.error && <Skeleton lines={3} />}
      {swap.data && (
        <>
          <p data-testid="swap">
            Alone it answers <span className="num">{swap.data.answer_before.toFixed(2)}</span> before,{" "}
            <span className="num">{swap.data.answer_after.toFixed(2)}</span> after. In the sun the two are{" "}
            <span className="num">ΔE {swap.data.sun_delta_e.toFixed(2)}</span> apart; a default picture shows
            on <span className="num">{figure(swap.data.default_px)} px</span>.
          </p>
          <table className="sheet-table mt-1" data-testid="transfers">
            <thead>
              <tr>
                <th>Role</th>
                <th>Picture</th>
                <th>Becomes</th>
              </tr>
            </thead>
            <tbody>
              {swap.data.transfers.map((t) => (
                <tr key={t.role}>
                  <td>{t.role.replaceAll("_", " ")}</td>
                  <td className="num">{t.bound ?? "–"}</td>
                  <td className={t.fate === "no place" ? "text-error" : ""}>
                    {t.fate}
                    {t.default && `, ${t.default} shows`}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}
