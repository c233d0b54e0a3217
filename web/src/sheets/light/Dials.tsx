import { figure } from "../../ui/words";
import type { Look } from "../look";
import { OnDemand } from "./OnDemand";
import { type DialsOf, useDials } from "./queries";

const MIB = 2 ** 20;

/** What each dial of bounce and reflection buys on this frame, turned by itself, and what it costs. */
export function Dials({ look }: { look: Look }) {
  return (
    <OnDemand
      look={look}
      name="What dials buy"
      title="What does each dial buy?"
      button="Turn each by itself"
      says="Nits nearer to what is due, noise, and the price."
      useFound={useDials}
    >
      {(found) => <Priced found={found} />}
    </OnDemand>
  );
}

function Priced({ found }: { found: DialsOf }) {
  return (
    <>
      {found.now.length === 0 && <p className="second">Neither bounce nor reflection is on.</p>}
      {found.now.map((n) => (
        <table key={n.name} className="sheet-table mt-2" data-testid={`dials-${n.name}`}>
          <thead>
            <tr>
              <th>
                {n.name}: {figure(Number(n.price.off.toPrecision(3)))} nit off on the mean
              </th>
              <th className="text-right!">Nearer</th>
              <th className="text-right!">Noise</th>
              <th className="text-right!">MiB</th>
              <th className="text-right!">Time</th>
            </tr>
          </thead>
          <tbody>
            {found.dials
              .filter((d) => d.pass_name === n.name)
              .sort((a, b) => b.nearer - a.nearer)
              .map((d) => (
                <tr key={`${d.leaf} ${d.new}`}>
                  <td>
                    <span className="num">
                      {d.leaf} {String(d.old)} → {String(d.new)}
                    </span>
                  </td>
                  <td className="num text-right whitespace-nowrap">{signed(d.nearer)} nit</td>
                  <td className="num text-right">{(d.price.noise * 100).toFixed(0)} %</td>
                  <td className="num text-right">{signed((d.price.bytes - n.price.bytes) / MIB)}</td>
                  <td className="num text-right">×{(d.price.ms / Math.max(n.price.ms, 0.001)).toFixed(1)}</td>
                </tr>
              ))}
          </tbody>
          <caption className="second caption-bottom text-left pt-1">
            As set: noise {(n.price.noise * 100).toFixed(0)} %. MiB more at 1920 × 1080 px; time as it took
            here, times as long.
          </caption>
        </table>
      ))}
    </>
  );
}

const signed = (value: number) =>
  value === 0 ? "0" : `${value > 0 ? "+" : "−"}${figure(Number(Math.abs(value).toPrecision(3)))}`;
