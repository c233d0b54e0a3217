import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import { percent } from "../../ui/words";
import type { Look } from "../look";
import { type Region, useWhere, type WhereOf } from "./queries";
import { fillOf, Patterns, STRATA } from "./strata";
import { nits, nitsOf, stops } from "./words";

const [WIDTH, HEIGHT] = [440, 26];
/** Where the light is that surfaces get from others, and the most that each kind of remedy can bring. */
export function WhereLight({ look, region }: { look: Look; region: Region | null }) {
  const of = `${look.viewpoint} ${region?.join(",")} ${look.target}`;
  const [asked, setAsked] = useState<string | null>(null);
  const found = useWhere(look, region, asked === of);
  const where = found.data;
  return (
    <section aria-label="Where the light is" className="mt-4">
      <h2>Where is the light from other surfaces?</h2>
      {asked !== of && (
        <p className="mt-1 flex gap-2 items-center">
          <button type="button" className="btn btn-sm" onClick={() => setAsked(of)}>
            Follow it {region ? "from the region" : "from the frame"}
          </button>
          <span className="second">Rays from what is seen, by where they end.</span>
        </p>
      )}
      <Failed error={found.error} />
      {asked === of && found.isPending && !found.error && <Skeleton lines={4} />}
      {where && <Strata where={where} />}
    </section>
  );
}

function Strata({ where }: { where: WhereOf }) {
  const light = (c: WhereOf["classes"][number]) => c.bounce + c.reflection;
  const order = STRATA;
  const rows = where.classes
    .filter((c) => light(c) > 0)
    .sort((a, b) => order.indexOf(a.where) - order.indexOf(b.where));
  const all = Math.max(
    rows.reduce((sum, c) => sum + light(c), 0),
    1e-12,
  );
  let at = 0;
  return (
    <>
      <p className="second">
        {nits(where.from_others)} of {nits(where.due)} that are due
        {where.in_lightmaps > 0 && `, ${nits(where.in_lightmaps)} of it already in lightmaps`}
      </p>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="w-full block mt-1" aria-hidden="true">
        <Patterns of="where" />
        {rows.map((c) => {
          const x = at;
          at += (light(c) / all) * WIDTH;
          return (
            <rect
              key={c.where}
              x={x}
              y={1}
              width={Math.max(at - x, 0.5)}
              height={HEIGHT - 2}
              fill={fillOf(c.where, "where")}
              stroke="currentColor"
            />
          );
        })}
      </svg>
      <table className="sheet-table" data-testid="where-light">
        <thead>
          <tr>
            <th>Where it is</th>
            <th className="text-right!">Light</th>
            <th className="text-right!">Of it</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((c) => (
            <tr key={c.where}>
              <td>
                <svg
                  width={14}
                  height={12}
                  viewBox="0 0 14 12"
                  className="inline-block mr-2"
                  aria-hidden="true"
                >
                  <rect
                    x={0.5}
                    y={0.5}
                    width={13}
                    height={11}
                    fill={fillOf(c.where, "where")}
                    stroke="currentColor"
                  />
                </svg>
                {c.where}
                {c.where === "hidden" && where.hidden_by[0] && `, by ${where.hidden_by[0].drawable}`}
              </td>
              <td className="num text-right whitespace-nowrap">{nitsOf(light(c), where.due)}</td>
              <td className="num text-right">{percent(light(c) / all, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {where.sources[0] && (
        <p className="second">
          Most of {where.sources[0].drawable}, {where.sources[0].where}.
        </p>
      )}
      {where.answers.map((a) => (
        <Answered key={a.name} answer={a} due={where.due} />
      ))}
      <table className="sheet-table mt-2" data-testid="ceilings">
        <thead>
          <tr>
            <th>The most that can be had{where.in_lightmaps > 0 && " besides lightmaps"} [prediction]</th>
            <th className="text-right!">Light</th>
            <th className="text-right!">Against due</th>
          </tr>
        </thead>
        <tbody>
          {where.ceilings.map((c) => (
            <tr key={c.remedy} title={c.why}>
              <td>{c.remedy}</td>
              <td className="num text-right whitespace-nowrap">{nits(c.nits)}</td>
              <td className="num text-right whitespace-nowrap">{stops(c.stops)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

const DONE: Record<string, string> = { bounce: "Bounce", reflect: "Reflection" };

/** What a pass makes of the light it is asked for, by where that is. */
function Answered({ answer, due }: { answer: WhereOf["answers"][number]; due: number }) {
  const other = (c: (typeof answer.classes)[number]) => c.missed + c.fell_back + c.wrong_hit;
  const asked = answer.classes.reduce((sum, c) => sum + c.found + other(c), 0);
  const found = answer.classes.reduce((sum, c) => sum + c.found, 0);
  if (asked <= 0) return null;
  return (
    <table className="sheet-table mt-2" data-testid={`answer-${answer.name}`}>
      <thead>
        <tr>
          <th>
            {DONE[answer.name] ?? answer.name} finds {percent(found / asked, 0)}
          </th>
          <th className="text-right!">Found</th>
          <th className="text-right!">Wrong hit</th>
          <th className="text-right!">
            {answer.fallback === "nothing" ? "Missed" : `To ${answer.fallback}`}
          </th>
        </tr>
      </thead>
      <tbody>
        {answer.classes
          .filter((c) => c.found + other(c) > 0)
          .map((c) => (
            <tr key={c.where}>
              <td>{c.where}</td>
              <td className="num text-right whitespace-nowrap">{nitsOf(c.found, due)}</td>
              <td className="num text-right whitespace-nowrap">{nitsOf(c.wrong_hit, due)}</td>
              <td className="num text-right whitespace-nowrap">{nitsOf(c.missed + c.fell_back, due)}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
}
