import { useMatch, useParams } from "react-router";

/** Which project and build the address names. */
export function usePlace() {
  const { project, build } = useParams();
  return { project: Number(project), build: Number(build) };
}

/** The same, outside the routes that declare it (header and title block). */
export function usePlaceAnywhere() {
  const deep = useMatch("/p/:project/b/:build/*");
  const flat = useMatch("/p/:project");
  const project = deep?.params.project ?? flat?.params.project;
  return {
    project: project === undefined ? undefined : Number(project),
    build: deep?.params.build === undefined ? undefined : Number(deep.params.build),
    sheet: deep?.params["*"] ?? "",
  };
}
