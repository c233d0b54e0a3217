import { Link } from "react-router";
import type { Build } from "../../api/client";
import { useBuild, useBuilds } from "../../api/queries";
import { Page } from "../../ui/Page";
import { usePlace } from "../../ui/place";
import { Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { bytes, counted, figure, when } from "../../ui/words";
import { Bring } from "./Bring";
import { Deliveries } from "./delivery/Deliveries";
import { FirstFrames } from "./FirstFrames";
import { Members } from "./Members";

export function Intake() {
  const { project, build } = usePlace();
  return (
    <Page className="grid gap-6 lg:grid-cols-[1fr_330px] items-start">
      <div className="min-w-0">
        {Number.isNaN(build) ? (
          <>
            <h1>Bring in the first build</h1>
            <p className="second mt-1 max-w-xl">
              A scene as GLB, or a ZIP of glTF with its files, and the settings document if there is one.
              Within seconds you see what was read, what was left out, and a first frame from each viewpoint.
            </p>
          </>
        ) : (
          <BuildSheet project={project} number={build} />
        )}
      </div>
      <aside className="flex flex-col gap-6">
        <Bring project={project} build={Number.isNaN(build) ? undefined : build} />
        {!Number.isNaN(build) && <Deliveries project={project} build={build} />}
        {!Number.isNaN(build) && (
          <section aria-label="From elsewhere">
            <h2>From elsewhere</h2>
            <ul className="mt-1">
              <li className="border-b hair py-1">
                <Link className="link" to={`/p/${project}/b/${build}/intake/conversion`}>
                  Base shaders that are not here
                </Link>
              </li>
              <li className="border-b hair py-1">
                <Link className="link" to={`/p/${project}/b/${build}/intake/twins`}>
                  What is missing, and its twins
                </Link>
              </li>
            </ul>
          </section>
        )}
        <BuildList project={project} current={build} />
        <Members project={project} />
      </aside>
    </Page>
  );
}

function BuildSheet({ project, number }: { project: number; number: number }) {
  const build = useBuild(project, number);
  useTitleBlock(build.data ? { File: build.data.name, Brought: when(build.data.created) } : {});
  if (build.isPending) return <Skeleton lines={8} />;
  if (!build.data) return <Failed error={build.error} />;
  const facts = build.data.facts;
  const left = facts.left_out;
  return (
    <>
      <div className="flex items-baseline gap-3 flex-wrap">
        <h1>
          Build {number}: {counted(facts.triangles, "triangle")} in {counted(facts.drawables, "drawable")}
        </h1>
        <p className="second">
          {build.data.has_own_setup
            ? "with its own settings"
            : build.data.settings_of
              ? `delivered over build ${build.data.settings_of}, with its settings`
              : "came without settings; they were fitted"}
        </p>
      </div>
      <FirstFrames project={project} build={build.data} />
      <div className="grid gap-6 md:grid-cols-2 mt-5">
        <Counts build={build.data} />
        <section>
          <h2>Left out, fitted, or not matching</h2>
          {left.length ? (
            <ul className="mt-1">
              {left.map((line) => (
                <li key={line} className={`border-b hair py-1 ${line.startsWith("  ") ? "pl-4 second" : ""}`}>
                  {line.trim()}
                </li>
              ))}
            </ul>
          ) : (
            <p className="second mt-1">Nothing was left out; every setting names something in the scene.</p>
          )}
        </section>
      </div>
      <Undrawn rows={facts.undrawn ?? []} />
      <Arrivals rows={facts.arrivals ?? []} />
      <Textures images={facts.image_sizes} />
    </>
  );
}

/** What materials say and is not drawn yet, and where it would show. */
function Undrawn({ rows }: { rows: NonNullable<Build["facts"]["undrawn"]> }) {
  if (!rows.length) return null;
  return (
    <section className="mt-5" aria-label="Not drawn yet">
      <h2>Not drawn yet</h2>
      <ul className="mt-1">
        {rows.map((u) => (
          <li key={u.extension} className="border-b hair py-1">
            <span className="num">{u.extension}</span> of {u.materials.join(", ")}:{" "}
            {Object.entries(u.pixels)
              .map(([view, px]) => `${figure(px)} px at ${view}`)
              .join(", ") || "no pixel at any viewpoint"}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What is wrong with parts as they arrive, by their numbers alone. */
function Arrivals({ rows }: { rows: NonNullable<Build["facts"]["arrivals"]> }) {
  if (!rows.length) return null;
  return (
    <section className="mt-5" aria-label="On arrival">
      <h2>On arrival</h2>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>Part</th>
            <th>What</th>
            <th className="text-right!">How much</th>
            <th>Code</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((a) => (
            <tr key={`${a.code} ${a.subject} ${a.measure}`}>
              <td className="num break-words max-w-[220px]">{a.subject}</td>
              <td>{a.why}</td>
              <td className="text-right">
                <span className="num">
                  {figure(a.value)}
                  {a.unit === "-" ? "" : ` ${a.unit}`}
                </span>{" "}
                <span className="second">{a.measure}</span>
              </td>
              <td className="num second whitespace-nowrap">{a.code}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Counts({ build }: { build: Build }) {
  const facts = build.facts;
  const bounds = facts.bounds_m;
  const size = bounds.high.map((v, i) => v - (bounds.low[i] ?? 0));
  const rows = [
    "triangles",
    "vertices",
    "drawables",
    "meshes",
    "nodes",
    "materials",
    "images",
    "lights",
    "cameras",
  ] as const;
  return (
    <section>
      <h2>What was read</h2>
      <table className="sheet-table mt-1">
        <tbody>
          {rows.map((k) => (
            <tr key={k}>
              <td>{k}</td>
              <td className="num text-right">{figure(facts[k])}</td>
            </tr>
          ))}
          <tr>
            <td>size</td>
            <td className="num text-right">{size.map((v) => figure(v)).join(" × ")} m</td>
          </tr>
          {(facts.skins ?? 0) > 0 && (
            <tr>
              <td>skins</td>
              <td className="num text-right">{figure(facts.skins ?? 0)}</td>
            </tr>
          )}
          {(facts.clips ?? []).map((c) => (
            <tr key={`clip ${c.name}`}>
              <td>clip: {c.name}</td>
              <td className="num text-right">
                {figure(c.ends_s)} s, moves {figure(c.moves)} {c.moves === 1 ? "node" : "nodes"}
              </td>
            </tr>
          ))}
          {build.files.map((f) => (
            <tr key={f.kind}>
              <td>
                {f.kind}: {f.name}
              </td>
              <td className="num text-right">{bytes(f.size)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Textures({ images }: { images: Build["facts"]["image_sizes"] }) {
  if (!images.length) return <p className="second mt-5">The scene has no textures.</p>;
  return (
    <section className="mt-5">
      <h2>Textures</h2>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>Name</th>
            <th>Used as</th>
            <th className="text-right!">Size</th>
          </tr>
        </thead>
        <tbody>
          {images.map((image) => (
            <tr key={`${image.name} ${image.width} ${image.roles.join(" ")}`}>
              <td>{image.name || "unnamed"}</td>
              <td>{image.roles.join(", ") || <span className="second">not used</span>}</td>
              <td className="num text-right">
                {image.width} × {image.height}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function BuildList({ project, current }: { project: number; current: number }) {
  const builds = useBuilds(project);
  if (!builds.data?.length) return null;
  return (
    <section>
      <h2>Builds</h2>
      <ul>
        {builds.data.map((b) => (
          <li key={b.number} className="border-b hair py-1 flex justify-between gap-2">
            <Link
              className={b.number === current ? "font-bold" : "underline"}
              to={`/p/${project}/b/${b.number}/intake`}
            >
              {b.number} · {b.name}
            </Link>
            <span className="num second">{when(b.created)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
