import { useRef } from "react";
import { Link, NavLink, Outlet } from "react-router";
import { client, must } from "../api/client";
import { useBuild, useProject } from "../api/queries";
import { useWrite } from "../api/writes";
import { MENU_ITEM, Menu } from "../ui/Menu";
import { usePlaceAnywhere } from "../ui/place";
import { TitleBlockRoom, useBlock } from "../ui/titleBlock";
import { Jobs } from "./Jobs";
import { KeyHelp } from "./KeyHelp";
import { SheetLinks } from "./SheetLinks";
import { useTheme } from "./theme";

/** Header, the sheet on show, and the title block around every page of someone signed in. */
export function Frame({ user }: { user: string }) {
  const { project, build } = usePlaceAnywhere();
  return (
    <TitleBlockRoom>
      <div className="h-full grid grid-rows-[46px_1fr_30px]">
        <header className="flex items-center gap-6 px-[18px] bg-base-100 border-b border-base-content">
          <Link to="/" className="wordmark" aria-label="Eddyfall, all projects">
            Eddyfall
          </Link>
          <nav aria-label="Sheets" className="flex gap-[18px] h-full">
            {project !== undefined && build !== undefined && <SheetLinks project={project} build={build} />}
          </nav>
          <div className="flex-1" />
          {project !== undefined && <Jobs project={project} />}
          <OwnMenu user={user} />
        </header>
        <div className="relative min-h-0 overflow-auto">
          <Outlet />
        </div>
        <TitleBlock project={project} build={build} />
      </div>
    </TitleBlockRoom>
  );
}

function OwnMenu({ user }: { user: string }) {
  const [theme, turn] = useTheme();
  const keys = useRef<HTMLDialogElement>(null);
  const out = useWrite(() => must(client.DELETE("/api/session")));
  return (
    <>
      <Menu label={<span className="num max-w-[120px] truncate">{user}</span>} name={`${user}, menu`}>
        <button type="button" className={MENU_ITEM} onClick={turn}>
          {theme === "survey" ? "Nightwatch" : "Survey"}
        </button>
        <button type="button" className={MENU_ITEM} onClick={() => keys.current?.showModal()}>
          Keys
        </button>
        <NavLink to="/account" className={MENU_ITEM}>
          Account
        </NavLink>
        <button type="button" className={MENU_ITEM} onClick={() => out.mutate(undefined)}>
          Sign out
        </button>
      </Menu>
      <KeyHelp dialog={keys} />
    </>
  );
}

function TitleBlock({ project, build }: { project?: number; build?: number }) {
  const block = useBlock();
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
