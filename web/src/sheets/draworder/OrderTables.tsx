import { figure } from "../../ui/words";
import type { FrameOrder, Walked } from "./queries";
import { placeOf } from "./words";

/** Every change of places along a move; one of them is picked. */
export function PopTable({
  walked,
  pop,
  setPop,
}: {
  walked: Walked;
  pop: number;
  setPop: (k: number) => void;
}) {
  if (walked.pops.length === 0) return null;
  return (
    <>
      {walked.flickers.map((two) => (
        <p key={`${two.first} ${two.second}`} className="mt-2 text-error" data-testid="flicker">
          {two.first} and {two.second} flicker: they change places {two.in_a_second} times in a second
        </p>
      ))}
      <PopRows walked={walked} pop={pop} setPop={setPop} />
    </>
  );
}

function PopRows({ walked, pop, setPop }: { walked: Walked; pop: number; setPop: (k: number) => void }) {
  return (
    <table className="sheet-table mt-2" data-testid="pops">
      <thead>
        <tr>
          <th>Changes of places</th>
          <th className="text-right!">At</th>
          <th className="text-right!">Pixels</th>
          <th className="text-right!">ΔE</th>
          <th> </th>
        </tr>
      </thead>
      <tbody>
        {walked.pops.map((p, k) => (
          <tr key={`${p.t_s} ${p.first} ${p.second}`} aria-current={k === pop}>
            <td>
              <button type="button" className="link text-left" onClick={() => setPop(k)}>
                {p.first}, {p.second}
              </button>
            </td>
            <td className="num text-right whitespace-nowrap">
              {placeOf(walked, p)}, {p.t_s.toFixed(2)} s
            </td>
            <td className="num text-right">{figure(p.pixels)}</td>
            <td className="num text-right">{p.worst.toFixed(1)}</td>
            <td className={p.turn === "harmless" ? "second" : ""}>{p.turn}</td>
          </tr>
        ))}
      </tbody>
      {walked.undrawn > 0 && (
        <caption className="second caption-bottom text-left">{walked.undrawn} more were not drawn.</caption>
      )}
    </table>
  );
}

/** Pairs that are off at the viewpoint. */
export function PairTable({ order }: { order: FrameOrder }) {
  return (
    <section aria-label="At the viewpoint" className="mt-3">
      <h2>At {order.viewpoint}</h2>
      <p className="second">
        {order.order.length === 0
          ? "Nothing blended is in sight."
          : order.method === "sorted"
            ? `Drawn first to last: ${order.order.join(", ")}.`
            : `Put together as ${order.method}: ${order.order.join(", ")}.`}
      </p>
      {order.hidden.map((c) => (
        <p key={c.writer} className="text-error" data-testid="hidden-by-depth">
          {c.writer} writes its depth and hides {c.hidden.join(", ")} behind it: {figure(c.pixels)} px
        </p>
      ))}
      {order.level.map((two) => (
        <p
          key={`${two.first} ${two.second}`}
          className={two.stages ? "text-error" : "second"}
          data-testid="level"
        >
          {two.first} and {two.second} lie at one depth: {two.first} is drawn first
          {two.stages
            ? ", though it stands before: no direction reaches what is solid"
            : order.key === "direction"
              ? ", by rank and direction"
              : ""}
          : {figure(two.pixels)} px
        </p>
      ))}
      {order.pairs.length > 0 && (
        <table className="sheet-table mt-1" data-testid="pairs">
          <thead>
            <tr>
              <th>Drawn too early</th>
              <th>though nearer than</th>
              <th className="text-right!">Pixels</th>
              <th className="text-right!">ΔE</th>
            </tr>
          </thead>
          <tbody>
            {order.pairs.map((p) => (
              <tr key={`${p.early} ${p.late}`}>
                <td>{p.early}</td>
                <td>{p.early === p.late ? "other faces of its own" : p.late}</td>
                <td className="num text-right">{figure(p.pixels)}</td>
                <td className="num text-right">{p.worst.toFixed(1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
