import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, must, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useBuild } from "../../api/queries";
import { Page } from "../../ui/Page";
import { Pick } from "../../ui/Pick";
import { usePlace } from "../../ui/place";
import { Failed, Skeleton } from "../../ui/state";
import { useTitleBlock } from "../../ui/titleBlock";
import { Exceptions } from "./Exceptions";
import { useEdits, type Where } from "./edits";
import { Fields } from "./Fields";
import { Index } from "./Index";
import { Shaders } from "./Shaders";
import { Trial } from "./Trial";

type Only = keyof typeof ONLY;
const ONLY = { all: "all", set: "changed", differs: "edit and play differ" } as const;

export function Setup() {
  const { project, build } = usePlace();
  const info = useBuild(project, build);
  const [viewpoint, setViewpoint] = useState<string>();
  const [target, setTarget] = useState("");
  const [find, setFind] = useState("");
  const [only, setOnly] = useState<Only>("all");
  const edits = useEdits();
  const setup = useQuery({
    queryKey: keys.setup(project, build, viewpoint, target),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/setup", {
          params: {
            path: { project_id: project, number: build },
            query: { viewpoint, target: target || undefined },
          },
        }),
      ),
    placeholderData: (before) => before,
  });
  useTitleBlock(
    setup.data
      ? { Viewpoint: setup.data.viewpoint, Role: setup.data.role, Target: setup.data.target ?? "none" }
      : {},
  );
  if (setup.isPending)
    return (
      <Page>
        <Skeleton lines={9} />
      </Page>
    );
  if (!setup.data)
    return (
      <Page>
        <Failed error={setup.error} />
      </Page>
    );
  const where: Where = { project, build, viewpoint: setup.data.viewpoint, target: setup.data.target };
  const differ = setup.data.fields.filter((f) => f.differs).length;
  const shown = chosen(setup.data.fields, find, only);
  return (
    <Page>
      <div className="flex items-end gap-4 flex-wrap">
        <div className="mr-auto">
          <h1>Settings as {setup.data.viewpoint} sees them</h1>
          <p className="second">
            {differ === 0
              ? "Edit and play agree in every field."
              : `${differ === 1 ? "One field differs" : `${differ} fields differ`} between edit and play.`}
          </p>
        </div>
        <Pick
          above
          label="Viewpoint"
          value={setup.data.viewpoint}
          options={(info.data?.viewpoints ?? []).map((v) => v.key)}
          pick={setViewpoint}
        />
        <Pick
          above
          label="Target"
          value={target}
          options={["", ...(info.data?.targets ?? [])]}
          pick={setTarget}
        />
        <Pick
          above
          label="Show"
          value={only}
          options={Object.entries(ONLY).map(([value, words]) => ({ value, words }))}
          pick={(value) => setOnly(value as Only)}
        />
        <label className="flex flex-col gap-1">
          Find
          <input
            data-find
            className="input input-sm w-44"
            placeholder="field, material, node"
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
        </label>
      </div>
      <div className="grid grid-cols-[132px_minmax(0,1fr)] gap-6 mt-3">
        <Index sections={setup.data.sections} shown={shown} exceptions={setup.data.exceptions.length} />
        <div className="min-w-0">
          {setup.data.sections.map((section) => {
            const fields = shown.filter((f) => f.section === section);
            return (
              fields.length > 0 && <Fields key={section} section={section} fields={fields} edits={edits} />
            );
          })}
          {shown.length === 0 && (
            <p className="second mt-5">No field fits. Clear the search to see all of them.</p>
          )}
          <Exceptions setup={setup.data} edits={edits} find={find} />
          <Shaders setup={setup.data} edits={edits} find={find} />
          <Trial where={where} edits={edits} />
        </div>
      </div>
    </Page>
  );
}

function chosen(fields: Schemas["SettingRow"][], find: string, only: string): Schemas["SettingRow"][] {
  const word = find.toLowerCase();
  return fields
    .filter((f) => `${f.path} ${f.name} ${f.meaning} ${f.reason}`.toLowerCase().includes(word))
    .filter((f) => only === "all" || (only === "set" ? f.winner !== "default" : f.differs));
}
