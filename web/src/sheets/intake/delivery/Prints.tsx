import { useState } from "react";
import type { Schemas } from "../../../api/client";
import { useBrackets } from "../useBrackets";
import { WipedPair } from "../WipedPair";

/** Both builds from a viewpoint, with a wipe; below, every viewpoint with how far its frames are apart. */
export function Prints({ base, result }: { base: string; result: Schemas["RehearsalDocument"] }) {
  const views = result.views;
  const [at, setAt] = useState(() =>
    views.reduce((most, v, i) => ((v.differs ?? 0) > (views[most]?.differs ?? 0) ? i : most), 0),
  );
  useBrackets(views.length, setAt);
  const view = views[at];
  if (!view) return null;
  const src = (which: string) =>
    `${base}/frames/${which}/${encodeURIComponent(view.viewpoint)}?stamp=${result.stamp}`;
  return (
    <section className="mt-5" aria-label="Frames before and after">
      <h2>
        {view.viewpoint}{" "}
        <span className="second font-normal">
          {view.differs === null
            ? "is new"
            : `${(view.differs * 100).toFixed(1)} % of it looks different, mean CIEDE2000 ${view.mean_de?.toFixed(2)}`}
        </span>
      </h2>
      <WipedPair
        before={
          view.differs === null
            ? undefined
            : { src: src("before"), alt: `${view.viewpoint} before`, label: "before, with your edits" }
        }
        after={{
          src: src("after"),
          alt: `${view.viewpoint} as delivered`,
          label: "delivered, with your edits",
        }}
      />
      <ul className="flex flex-wrap gap-x-4 gap-y-1 mt-2">
        {views.map((v, i) => (
          <li key={v.viewpoint}>
            <button
              type="button"
              className={`link ${i === at ? "font-semibold" : ""}`}
              aria-current={i === at}
              onClick={() => setAt(i)}
            >
              {v.viewpoint}
            </button>{" "}
            <span className="num second">
              {v.differs === null ? "new" : `${(v.differs * 100).toFixed(1)} %`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
