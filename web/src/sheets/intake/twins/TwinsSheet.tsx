import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { at } from "../../../api/at";
import { buildPath, client, must, type Schemas } from "../../../api/client";
import { keys } from "../../../api/keys";
import { useBuilds } from "../../../api/queries";
import { useKeep } from "../../../api/writes";
import { Choice } from "../../../ui/Choice";
import { Page } from "../../../ui/Page";
import { Pick } from "../../../ui/Pick";
import { Picture } from "../../../ui/Picture";
import { Empty, Failed, Skeleton } from "../../../ui/state";
import { figure } from "../../../ui/words";
import { useBeforeKey } from "../../lightmaps/useBeforeKey";
import { type Look, useLook } from "../../look";
import { useBrackets } from "../useBrackets";
import { useRows } from "../useRows";
import { Outlines } from "./Outlines";

type Missing = Schemas["MissingDocument"];

/** What is missing in a build, and the meshes that could stand there: outlines at one scale, numbers, and the place with each of them. */
export function TwinsSheet() {
  const { look, query, set } = useLook();
  const older = query.get("older") ? Number(query.get("older")) : null;
  const builds = useBuilds(look.project);
  const [at_, setAt] = useState(0);
  const told = useQuery({
    queryKey: keys.twins(look.project, look.build, [Number(look.stamp), older]),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/twins", {
          params: { ...at(look.project, look.build).params, query: { older } },
        }),
      ),
  });
  const missing = told.data?.missing ?? [];
  useBrackets(missing.length, setAt);
  const others = (builds.data ?? []).filter((b) => b.number !== look.build);
  const what = missing[Math.min(at_, missing.length - 1)];
  return (
    <Page>
      <p className="second">
        <Link className="link" to={`/p/${look.project}/b/${look.build}/intake`}>
          Intake of build {look.build}
        </Link>
      </p>
      <div className="flex items-end gap-4 flex-wrap">
        <h1 className="grow">
          {told.data
            ? missing.length
              ? `${missing.length} ${missing.length === 1 ? "thing is" : "things are"} missing`
              : "Nothing is missing"
            : "What is missing"}
        </h1>
        {others.length > 0 && (
          <Pick
            label="An older build, which knows what stood where"
            above
            className="w-64"
            value={older ? String(older) : ""}
            options={[
              { value: "", words: "none" },
              ...others.map((b) => ({ value: String(b.number), words: `${b.number} · ${b.name}` })),
            ]}
            pick={(v) => set({ older: v || null })}
          />
        )}
      </div>
      <Failed error={told.error} />
      {told.isPending && <Skeleton lines={8} />}
      {told.data && !missing.length && (
        <Empty title="No node is empty, no even row has a gap">
          An older build of this project may know of more: choose it above.
        </Empty>
      )}
      {missing.length > 1 && (
        <ul className="flex flex-wrap gap-x-4 gap-y-1 mt-2">
          {missing.map((m, i) => (
            <li key={m.name}>
              <Choice here={m === what} go={() => setAt(i)}>
                {m.name}
              </Choice>
            </li>
          ))}
        </ul>
      )}
      {what && <Candidates key={what.name} look={look} what={what} older={older} />}
    </Page>
  );
}

function Candidates({ look, what, older }: { look: Look; what: Missing; older: number | null }) {
  const keep = useKeep(look.project, look.build);
  const [bare, setBare] = useState(false);
  useBeforeKey(setBare);
  const fetched = useMutation({ mutationFn: (rank: number) => changeOf(look, what.name, older, rank) });
  const keepAt = async (i: number) => {
    const twin = what.twins[i];
    if (!twin || keep.isPending || fetched.isPending) return;
    const change = twin.change ?? (await fetched.mutateAsync(i).catch(() => null));
    if (change)
      keep.mutate({
        change,
        evidence: { from: "twins", apart_mm: twin.apart_mm, end_fit_mm: twin.end_fit_mm },
        reason: "",
      });
  };
  const {
    at: chosen,
    body,
    row,
  } = useRows(what.twins.length, (key, i) => {
    if (key.toLowerCase() !== "k") return false;
    keepAt(i);
    return true;
  });
  const twin = what.twins[chosen];
  return (
    <section aria-label={what.name} className="mt-3">
      <p>
        <b>{what.name}</b> is missing at <span className="num">{what.at_m.map(figure).join(", ")} m</span>:{" "}
        {what.guess ? "a guess by" : "known by the"} {what.how}
        {what.like && (
          <>
            , as <span className="num">{what.like}</span>
          </>
        )}
        .
      </p>
      <Outlines what={what} chosen={chosen} />
      <div className="grid gap-6 lg:grid-cols-[1fr_minmax(320px,460px)] items-start mt-4">
        <div className="min-w-0">
          <table className="sheet-table" aria-label="Twins">
            <thead>
              <tr>
                <th>Mesh</th>
                <th>Of</th>
                <th className="text-right!">Surfaces apart</th>
                <th className="text-right!">At most</th>
                <th>Mirrored</th>
                <th className="text-right!">Ends apart</th>
              </tr>
            </thead>
            <tbody {...body}>
              {what.twins.map((t, i) => (
                <tr
                  key={`${t.source} ${t.mesh}`}
                  {...row(i)}
                  aria-current={i === chosen}
                  className={i === chosen ? "bg-base-100" : ""}
                  onClick={(e) => e.currentTarget.focus()}
                >
                  <td className={`num ${i === chosen ? "font-semibold" : ""}`}>{t.mesh}</td>
                  <td>{t.source}</td>
                  <td className="num text-right">{mm(t.apart_mm)}</td>
                  <td className="num text-right">{mm(t.most_mm)}</td>
                  <td>{t.mirrored === null ? "–" : t.mirrored ? <b>yes</b> : "no"}</td>
                  <td className="num text-right">{mm(t.end_fit_mm)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="flex items-center gap-3 mt-3 flex-wrap">
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={!twin || keep.isPending || fetched.isPending}
              onClick={() => keepAt(chosen)}
            >
              Let {twin?.mesh ?? "it"} stand there <kbd>K</kbd>
            </button>
            {twin?.brought && (
              <span className="second">
                It is of {twin.source}: the change brings its mesh along, in this build's materials where they
                have its names.
              </span>
            )}
          </div>
          <Failed error={keep.error ?? fetched.error} />
        </div>
        <section aria-label="In its place">
          <h2>{bare || !twin ? "The place as it is" : `${twin.mesh} in its place`}</h2>
          <Picture
            className="w-full aspect-video stage mt-1"
            alt={bare || !twin ? `the place of ${what.name}` : `${twin.mesh} in the place of ${what.name}`}
            src={place(look, what.name, older, bare || !twin ? null : chosen)}
          />
        </section>
      </div>
    </section>
  );
}

const FINE_MM = 0.01; // below it a distance is told as less than it

const mm = (value: number | null) =>
  value === null ? "–" : value > 0 && value < FINE_MM ? `< ${FINE_MM} mm` : `${figure(value)} mm`;

/** The change by which the twin of a rank stands there, with its mesh where that is of another build. */
const changeOf = (look: Look, name: string, older: number | null, rank: number) =>
  must(
    client.GET("/api/projects/{project_id}/builds/{number}/twins/{missing}/change", {
      params: {
        path: { ...at(look.project, look.build).params.path, missing: name },
        query: { rank, older },
      },
    }),
  );

function place(look: Look, name: string, older: number | null, rank: number | null): string {
  const query = new URLSearchParams({ stamp: look.stamp });
  if (rank !== null) query.set("rank", String(rank));
  if (older !== null) query.set("older", String(older));
  return `${buildPath(look.project, look.build)}/twins/${encodeURIComponent(name)}/picture?${query}`;
}
