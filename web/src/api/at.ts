/** The path of a build, as its questions take it. */
export const at = (project: number, number: number) => ({
  params: { path: { project_id: project, number } },
});
