import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { at } from "../../../api/at";
import { buildPath, client, must, type Schemas } from "../../../api/client";
import { keys } from "../../../api/keys";
import { useKeep } from "../../../api/writes";
import { Choice } from "../../../ui/Choice";
import { Page } from "../../../ui/Page";
import { Pick } from "../../../ui/Pick";
import { Empty, Failed, Skeleton } from "../../../ui/state";
import { useTitleBlock } from "../../../ui/titleBlock";
import { figure } from "../../../ui/words";
import { type Look, useLook } from "../../look";
import { useBrackets } from "../useBrackets";
import { WipedPair } from "../WipedPair";
import { ConversionTable } from "./ConversionTable";

type Told = Schemas["ConversionsDocument"];

/** Materials whose base shader a target lacks, and what a conversion of all that can be converted makes of them, before it is kept. */
export function ConversionSheet() {
  const { look, targets, query, set } = useLook();
  const to = query.get("to");
  const only = query.get("material");
  const asked = { target: look.target, to, material: only };
  const told = useQuery({
    queryKey: keys.conversions(look.project, look.build, look.stamp, look.target, to, only),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/conversions", {
          params: { ...at(look.project, look.build).params, query: asked },
        }),
      ),
  });
  useTitleBlock({ Target: look.target ?? "any" });
  return (
    <Page>
      <p className="second">
        <Link className="link" to={`/p/${look.project}/b/${look.build}/intake`}>
          Intake of build {look.build}
        </Link>
      </p>
      <div className="flex items-end gap-4 flex-wrap">
        <h1 className="grow">{told.data ? title(told.data) : "Base shaders that are not here"}</h1>
        {targets.length > 0 && (
          <Pick
            label="Target"
            above
            value={look.target ?? ""}
            options={[{ value: "", words: "any" }, ...targets]}
            pick={(target) => set({ target: target || null, material: null })}
          />
        )}
      </div>
      <Failed error={told.error} />
      {told.isPending && <Skeleton lines={8} />}
      {told.data &&
        (told.data.rows.length ? (
          <Rehearsed key={`${look.stamp} ${only}`} look={look} told={told.data} only={only} show={set} />
        ) : (
          <Empty title="Nothing is drawn in the error colour">
            The base shader of every material has a version for{" "}
            {look.target ? `target ${look.target}` : "every target"}.
          </Empty>
        ))}
    </Page>
  );
}

function title(told: Told): string {
  const convert = told.rows.filter((r) => r.kind === "converts").length;
  const special = told.special.length;
  const parts = [
    convert ? `${convert} ${convert === 1 ? "material converts" : "materials convert"}` : "",
    special ? `${special} ${special === 1 ? "is special" : "are special"}` : "",
  ].filter(Boolean);
  return parts.length
    ? `Base shaders that are not here: ${parts.join(", ")}`
    : "Base shaders that are not here";
}

function Rehearsed({
  look,
  told,
  only,
  show,
}: {
  look: Look;
  told: Told;
  only: string | null;
  show: (values: Record<string, string | null>) => void;
}) {
  // One that was kept alone is done: the others are shown again.
  const keep = useKeep(look.project, look.build, () => only && show({ material: null }));
  const [view, setView] = useState(() =>
    told.seen.reduce((most, s, i) => (s.error_before > (told.seen[most]?.error_before ?? 0) ? i : most), 0),
  );
  useBrackets(told.seen.length, setView);
  const seen = told.seen[view];
  const keepIt = () => {
    if (told.change && !keep.isPending)
      keep.mutate({
        change: told.change,
        evidence: {
          from: "conversion",
          error_px: told.seen.map((s) => ({
            viewpoint: s.viewpoint,
            before: s.error_before,
            after: s.error_after,
          })),
        },
        reason: "",
      });
  };
  const converted = only ? told.rows.map((r) => r.material) : undefined;
  return (
    <div className="grid gap-6 lg:grid-cols-[1fr_minmax(320px,460px)] items-start mt-2">
      <div className="min-w-0">
        <ConversionTable
          rows={told.rows}
          chosen={converted}
          keep={keepIt}
          alone={(material) => show({ material: material === only ? null : material })}
        />
        <div className="flex items-center gap-3 mt-3 flex-wrap">
          {told.change && (
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={keep.isPending}
              onClick={keepIt}
            >
              {keepWords(told, only)} <kbd>K</kbd>
            </button>
          )}
          {only && (
            <button type="button" className="btn btn-sm" onClick={() => show({ material: null })}>
              All of them again
            </button>
          )}
          {!only && told.special.length > 0 && (
            <span className="second">Special ones stay as they are: {told.special.join(", ")}.</span>
          )}
        </div>
        <Failed error={keep.error} />
      </div>
      {seen && (
        <section aria-label="Frames before and after">
          <h2>
            {seen.viewpoint}{" "}
            <span className="second font-normal">
              {figure(seen.error_before)} px in the error colour, then {figure(seen.error_after)}
            </span>
          </h2>
          <WipedPair
            before={{
              src: frame(look, only, "before", seen.viewpoint),
              alt: `${seen.viewpoint} as it is`,
              label: "as it is",
            }}
            after={{
              src: frame(look, only, "after", seen.viewpoint),
              alt: `${seen.viewpoint} converted`,
              label: "converted",
            }}
          />
          <SeenTable told={told} at={view} go={setView} />
        </section>
      )}
    </div>
  );
}

const keepWords = (told: Told, only: string | null) => {
  if (only) return `Keep ${only} converted`;
  const n = told.rows.filter((r) => r.kind === "converts").length;
  return n === 1 ? "Keep the conversion" : `Keep all ${n} conversions`;
};

function frame(look: Look, only: string | null, which: string, viewpoint: string): string {
  const query = new URLSearchParams({ stamp: look.stamp });
  if (look.target) query.set("target", look.target);
  if (only) query.set("material", only);
  return `${buildPath(look.project, look.build)}/conversions/frames/${which}/${encodeURIComponent(viewpoint)}?${query}`;
}

/** Every viewpoint in numbers; a click shows its frames. */
function SeenTable({ told, at, go }: { told: Told; at: number; go: (i: number) => void }) {
  return (
    <table className="sheet-table mt-2" aria-label="What is seen">
      <thead>
        <tr>
          <th>Viewpoint</th>
          <th className="text-right!">Error px</th>
          <th className="text-right!">Then</th>
          <th className="text-right!">CIEDE2000 beside its own shader</th>
        </tr>
      </thead>
      <tbody>
        {told.seen.map((s, i) => (
          <tr key={s.viewpoint}>
            <td>
              <Choice here={i === at} go={() => go(i)}>
                {s.viewpoint}
              </Choice>
            </td>
            <td className="num text-right">{figure(s.error_before)}</td>
            <td className="num text-right">{figure(s.error_after)}</td>
            <td className="num text-right">
              {s.pixels ? `${s.mean_de.toFixed(2)}, at most ${s.most_de.toFixed(2)}` : "–"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
