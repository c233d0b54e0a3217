import { Link } from "react-router";
import type { Schemas } from "../../api/client";

/** Which supplied picture is which that is missing; what they make of the scene is rehearsed like any delivery. */
export function Supplied({
  told,
  project,
  build,
}: {
  told: Schemas["SupplyOut"];
  project: number;
  build: number;
}) {
  const { found, missing, left } = told.supply;
  return (
    <section aria-label="Supplied pictures" className="mt-3">
      <h3 className="font-semibold">
        {found.length
          ? `${found.length} ${found.length === 1 ? "picture finds its place" : "pictures find their places"}`
          : "None of them finds a place"}
      </h3>
      {found.length > 0 && (
        <table className="sheet-table" aria-label="Pictures and their places">
          <thead>
            <tr>
              <th>Picture</th>
              <th>Is</th>
              <th>By</th>
            </tr>
          </thead>
          <tbody>
            {found.map((f) => (
              <tr key={f.image}>
                <td className="num break-all">{f.picture}</td>
                <td>
                  <span className="num break-all">{f.file || f.name}</span>
                  <span className="second block">{uses(f.uses)}</span>
                </td>
                <td>{f.sure ? f.how : <b>{f.how}: look at it</b>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {missing.length > 0 && (
        <p className="mt-1">
          Still missing:{" "}
          <span className="num break-all">{missing.map((m) => m.file || m.name).join(", ")}</span>
        </p>
      )}
      {left.length > 0 && (
        <p className="mt-1">
          Without a place: <span className="num break-all">{left.join(", ")}</span>
        </p>
      )}
      {told.delivery && (
        <Link
          className="btn btn-sm btn-primary mt-2"
          to={`/p/${project}/b/${build}/intake/delivery/${told.delivery.id}`}
        >
          See it rehearsed
        </Link>
      )}
    </section>
  );
}

const uses = (of: string[][]) =>
  of.map(([material, role]) => `${material}, ${(role ?? "").replaceAll("_", " ")}`).join("; ");
