import type { Sweep } from "../../api/client";
import { Mark } from "../../ui/marks";
import { percent } from "../../ui/words";

type Found = Sweep["underway"][number];

/** What a sweep has found so far: measured at once, each with its remedy and impact as soon as these are proved. */
export function Underway({ found }: { found: Found[] }) {
  if (!found.length) return null;
  const proved = found.filter((f) => f.proved).length;
  return (
    <section className="my-3" aria-label="Found so far">
      <h2>
        Found so far: {found.length}{" "}
        <span className="second font-normal">
          {proved} of them proved; roles and what is new come with the last
        </span>
      </h2>
      <ul className="border-t border-base-content mt-1">
        {found.map((f) => (
          <li
            key={f.fingerprint}
            className="grid grid-cols-[14px_1fr_auto] gap-3 items-baseline border-b hair py-[6px]"
          >
            {f.severity ? <Mark severity={f.severity} size={11} /> : <span aria-hidden="true">·</span>}
            <div>
              <b>{f.title}</b>
              <span className="second block">
                {f.what}. {f.proved ? (f.remedy ? `Remedy: ${f.remedy}.` : "No remedy cures it yet.") : ""}
              </span>
            </div>
            <span className="num second">
              {f.proved ? impactWords(f) : "measured; remedies are being tried"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function impactWords(f: Found): string {
  if (!f.impact || f.impact.kind === "none") return "proved; no play viewpoint shows it";
  const share = `${percent(f.impact.share)} of ${f.impact.viewpoint}`;
  return f.impact.kind === "measured" ? `proved: ${share}` : `proved; shown on ${share}`;
}
