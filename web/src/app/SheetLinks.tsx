import { useEffect, useState } from "react";
import { NavLink } from "react-router";
import { SHEETS } from "../sheets/registry";
import type { Sheet } from "../sheets/sheet";
import { MENU_ITEM, Menu } from "../ui/Menu";
import { usePlaceAnywhere } from "../ui/place";

const NARROW = "(max-width: 1199px)";

/** The names of a build's sheets. Where there is little room, the topics fold into one menu. */
export function SheetLinks({ project, build }: { project: number; build: number }) {
  const narrow = useMatchMedia(NARROW);
  const here = usePlaceAnywhere().sheet.split("/")[0];
  const of = (group: Sheet["group"]) => SHEETS.filter((s) => s.group === group);
  const link = (sheet: Sheet) => (
    <NavLink
      key={sheet.path}
      to={`/p/${project}/b/${build}/${sheet.path}`}
      className={({ isActive }) =>
        `flex items-center whitespace-nowrap font-semibold border-b-[3px] pt-[3px] ${isActive ? "border-primary" : "border-transparent second"}`
      }
    >
      {sheet.name}
    </NavLink>
  );
  const topics = of("topic");
  const shown = topics.find((s) => s.path === here);
  return (
    <>
      {of("start").map(link)}
      {narrow ? (
        <div
          className={`flex items-center border-b-[3px] pt-[3px] ${shown ? "border-primary" : "border-transparent"}`}
        >
          <Menu label={shown?.name ?? "Topics"} name={shown ? `Topics, ${shown.name}` : "Topics"}>
            {topics.map((s) => (
              <NavLink key={s.path} to={`/p/${project}/b/${build}/${s.path}`} className={MENU_ITEM}>
                {s.name}
              </NavLink>
            ))}
          </Menu>
        </div>
      ) : (
        topics.map(link)
      )}
      {of("end").map(link)}
    </>
  );
}

function useMatchMedia(query: string): boolean {
  const [matches, set] = useState(() => window.matchMedia?.(query).matches ?? false);
  useEffect(() => {
    const list = window.matchMedia?.(query);
    const look = () => set(list?.matches ?? false);
    list?.addEventListener("change", look);
    return () => list?.removeEventListener("change", look);
  }, [query]);
  return matches;
}
