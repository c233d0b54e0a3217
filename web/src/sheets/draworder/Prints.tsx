import { Picture } from "../../ui/Picture";
import { figure } from "../../ui/words";
import type { Look } from "../look";
import { type Pop, pictureUrl, type Walked } from "./queries";
import { placeOf, pops } from "./words";

const BESIDE_S = 2e-4;

/** The frame just before a change of places, just after it, and as its layers lie. */
export function Prints({ look, walked, pop }: { look: Look; walked: Walked; pop: Pop }) {
  const at = (at_s: number) => ({ move: walked.move, at_s });
  const prints = [
    {
      name: "Just before",
      src: pictureUrl(look, at(pop.t_s - BESIDE_S), "drawn"),
      says: `${pop.first} is drawn first`,
      off: pop.off_before,
    },
    {
      name: "Just after",
      src: pictureUrl(look, at(pop.t_s + BESIDE_S), "drawn"),
      says: `${pop.second} is drawn first`,
      off: pop.off_after,
    },
    {
      name: "As they lie",
      src: pictureUrl(look, at(pop.t_s), "true"),
      says: "every pixel's layers, farthest first",
      off: null,
    },
  ];
  return (
    <section aria-label="Either side of the pop" className="mt-3" data-testid="prints">
      <h2>
        {placeOf(walked, pop)}: {pop.first} and {pop.second} change places
      </h2>
      <p className="second">{pops(pop)}</p>
      <div className="grid grid-cols-3 gap-3 mt-1">
        {prints.map((p) => (
          <figure key={p.name} className="border border-base-300 bg-base-100">
            <Picture
              src={p.src}
              alt={`${p.name}: ${p.says}`}
              className="w-full block aspect-video"
              draggable={false}
            />
            <figcaption className="px-2 py-1">
              <b>{p.name}</b>
              <br />
              <span className="second">{p.says}</span>
              {p.off !== null && (
                <>
                  <br />
                  <span className={p.off > 0 ? "text-error font-semibold" : "text-success font-semibold"}>
                    {p.off > 0 ? `${figure(p.off)} px off` : "✓ in order"}
                  </span>
                </>
              )}
            </figcaption>
          </figure>
        ))}
      </div>
    </section>
  );
}
