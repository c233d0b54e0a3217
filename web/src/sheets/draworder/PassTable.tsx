import { useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import type { Look } from "../look";
import { type TableOf, usePassTable } from "./queries";

const MARKS: Record<string, string> = {
  writes: "●",
  "reads its own": "●",
  missing: "○",
  mismatched: "✗",
  "not by its kind": "–",
  off: "",
};

/** What each material takes part in, as it declares and as hiding it shows; asked for on demand. */
export function PassTable({ look }: { look: Look }) {
  const of = `${look.stamp} ${look.viewpoint} ${look.target}`;
  const [wanted, setWanted] = useState("");
  const found = usePassTable(look, wanted === of);
  return (
    <section aria-label="Pass table" className="mt-4">
      <h2>Who takes part in what</h2>
      {wanted !== of && (
        <button type="button" className="btn btn-sm mt-1" onClick={() => setWanted(of)}>
          Hide each material and see
        </button>
      )}
      <Failed error={found.error} />
      {wanted === of && found.isPending && !found.error && <Skeleton lines={5} />}
      {found.data && <Table of={found.data} />}
    </section>
  );
}

function Table({ of }: { of: TableOf }) {
  const wrong = of.rows.flatMap((r) => r.cells.map((c) => ({ r, c })));
  const told = wrong.filter(({ c }) => c.status === "missing" || c.status === "mismatched");
  return (
    <>
      <table className="sheet-table mt-1" data-testid="pass-table">
        <thead>
          <tr>
            <th>Material</th>
            {of.consumers.map((c) => (
              <th key={c} className="text-center!">
                {c}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {of.rows.map((r) => (
            <tr key={r.material}>
              <td className={r.seen ? "" : "second"}>{r.material}</td>
              {r.cells.map((c) => (
                <td
                  key={c.consumer}
                  className={`text-center ${c.status === "mismatched" || c.disagrees ? "text-error font-bold" : ""}`}
                  title={`${c.status}: ${c.because}`}
                >
                  <span aria-hidden="true">{MARKS[c.status]}</span>
                  <span className="sr-only">{c.status}</span>
                  {c.disagrees && "!"}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="second">
        ● takes part · ○ could, and is left out · ✗ reads what is not its own · – not by its kind
      </p>
      <ul>
        {told.map(({ r, c }) => (
          <li key={`${r.material} ${c.consumer}`}>
            {r.material}, {c.consumer}: {c.status} <span className="second wrap-anywhere">({c.because})</span>
          </li>
        ))}
      </ul>
      {of.disagreements > 0 && (
        <p className="text-error">
          ! {of.disagreements} cells are not as they are declared: a fault of ours.
        </p>
      )}
    </>
  );
}
