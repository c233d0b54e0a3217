import { createContext, useCallback, useContext, useEffect, useState } from "react";
import { Link, NavLink, Outlet } from "react-router";
import { client, must } from "../api/client";
import { useBuild, useProject, useWrite } from "../api/queries";
import { Jobs } from "./Jobs";
import { KeyHelp } from "./KeyHelp";
import { usePlaceAnywhere } from "./place";
import { useTheme } from "./theme";

type Block = Record<string, string>;
const BlockContext = createContext<(block: Block) => void>(() => {});

/** Fields a sheet adds to the title block along the bottom. */
export function useTitleBlock(block: Block) {
  const set = useContext(BlockContext);
  const text = JSON.stringify(block);
  useEffect(() => {
    set(JSON.parse(text));
    return () => set({});
  }, [set, text]);
}

const SHEETS = [
  ["intake", "Intake"],
  ["set-up", "Set-up"],
  ["sweep", "Sweep"],
  ["bench", "Bench"],
  ["lightmaps", "Lightmaps"],
  ["ledger", "Ledger"],
] as const;

export function Frame({ user }: { user: string }) {
  const { project, build } = usePlaceAnywhere();
  const [block, setBlock] = useState<Block>({});
  const set = useCallback((b: Block) => setBlock(b), []);
  const [theme, turn] = useTheme();
  const out = useWrite(() => must(client.DELETE("/api/session")));
  return (
    <BlockContext value={set}>
      <div className="h-full grid grid-rows-[46px_1fr_30px]">
        <header className="flex items-center gap-6 px-[18px] bg-base-100 border-b border-base-content">
          <Link to="/" className="wordmark" aria-label="Eddyfall, all projects">
            Eddyfall
          </Link>
          <nav aria-label="Sheets" className="flex gap-5 h-full">
            {build !== undefined &&
              SHEETS.map(([path, name]) => (
                <NavLink
                  key={path}
                  to={`/p/${project}/b/${build}/${path}`}
                  className={({ isActive }) =>
                    `flex items-center font-semibold border-b-[3px] pt-[3px] ${isActive ? "border-primary" : "border-transparent second"}`
                  }
                >
                  {name}
                </NavLink>
              ))}
          </nav>
          <div className="flex-1" />
          {project !== undefined && <Jobs project={project} />}
          <KeyHelp />
          <button type="button" className="btn btn-sm btn-ghost" onClick={turn}>
            {theme === "survey" ? "Nightwatch" : "Survey"}
          </button>
          <NavLink to="/account" className="num underline">
            {user}
          </NavLink>
          <button type="button" className="btn btn-sm" onClick={() => out.mutate(undefined)}>
            Sign out
          </button>
        </header>
        <div className="min-h-0 overflow-auto">
          <Outlet />
        </div>
        <TitleBlock project={project} build={build} block={block} />
      </div>
    </BlockContext>
  );
}

function TitleBlock({ project, build, block }: { project?: number; build?: number; block: Block }) {
  return (
    <footer className="flex bg-base-100 border-t border-base-content num whitespace-nowrap overflow-hidden">
      {project !== undefined && <ProjectFields project={project} build={build} />}
      {Object.entries(block).map(([name, value]) => (
        <Field key={name} name={name} value={value} />
      ))}
    </footer>
  );
}

function ProjectFields({ project, build }: { project: number; build?: number }) {
  const p = useProject(project);
  return (
    <>
      <Field name="Project" value={p.data?.name ?? "…"} />
      {build !== undefined && <BuildField project={project} build={build} />}
    </>
  );
}

function BuildField({ project, build }: { project: number; build: number }) {
  const b = useBuild(project, build);
  const kept = b.data ? ` · ${b.data.kept} change${b.data.kept === 1 ? "" : "s"} kept` : "";
  return <Field name="Build" value={`${build}${kept}`} />;
}

function Field({ name, value }: { name: string; value: string }) {
  return (
    <div className="px-[14px] py-[6px] border-r border-base-300">
      <span className="second mr-2">{name}</span>
      {value}
    </div>
  );
}
