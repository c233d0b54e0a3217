import { buildPath, type Sweep } from "../../api/client";
import { Exposed, Mark } from "../../ui/marks";
import { Picture } from "../../ui/Picture";
import { percent } from "../../ui/words";

type Cell = Sweep["tide"][number]["cells"][string];

/** Viewpoints down, kinds of defect across; a mark's size is the measured share of the frame, its shape the severity. */
export function Tide({ project, build, sweep }: { project: number; build: number; sweep: Sweep }) {
  const codes = sweep.codes;
  const empty = (kind: string) => !sweep.tide.some((row) => row.cells[kind]);
  return (
    <table className="w-full mt-3 border-y border-base-content bg-base-100">
      <thead>
        <tr className="border-b border-base-content">
          <th className="w-[260px] border-r border-base-content text-left px-2 py-2">Viewpoint</th>
          {codes.map((c) => (
            <th
              key={c.code}
              title={c.words}
              className={`py-2 ${empty(c.code) ? "second w-[84px] font-normal" : "font-semibold"}`}
              style={{ fontStretch: "86%" }}
            >
              {c.code}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {sweep.tide.map((row) => (
          <tr key={row.viewpoint} className="border-b hair">
            <th scope="row" className="border-r border-base-content p-0 text-left font-normal">
              <div className="flex items-center gap-3">
                <Picture
                  className="w-[80px] h-[45px] object-cover"
                  alt=""
                  src={`${buildPath(project, build)}/frames/${encodeURIComponent(row.viewpoint)}?width=240&height=135`}
                />
                <b>{row.viewpoint}</b>
              </div>
            </th>
            {codes.map((c) => (
              <td key={c.code} className="text-center h-[50px]">
                <TideCell cell={row.cells[c.code]} />
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function TideCell({ cell }: { cell: Cell | undefined }) {
  if (!cell) return <span className="second" aria-hidden="true" />;
  const label = cell.exposed
    ? `${cell.severity}, shown here, not measured`
    : `${cell.severity}, ${percent(cell.share)} of the frame`;
  return (
    <span
      className="inline-flex items-center gap-2 justify-center"
      role="img"
      aria-label={label}
      title={label}
    >
      {cell.exposed ? (
        <Exposed size={14} />
      ) : (
        <>
          <Mark severity={cell.severity} size={Math.min(34, 9 + 90 * Math.sqrt(cell.share))} />
          <span className="num second">
            {cell.share < 0.00005
              ? `< ${percent(0.0001, 2)}`
              : percent(cell.share, cell.share < 0.0095 ? 2 : 1)}
          </span>
        </>
      )}
    </span>
  );
}
