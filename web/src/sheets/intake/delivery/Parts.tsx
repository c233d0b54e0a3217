import type { Schemas } from "../../../api/client";

/** What each part is now; those that are the same are counted. */
export function Parts({ result }: { result: Schemas["RehearsalDocument"] }) {
  const same = Object.entries(result.same).map(
    ([kind, count]) => `${count} ${kind}${count === 1 ? "" : kind === "mesh" ? "es" : "s"}`,
  );
  return (
    <section aria-label="Parts">
      <h2>Parts</h2>
      <p className="second">{same.length ? `The same: ${same.join(", ")}.` : "No part is the same."}</p>
      {result.matches.length > 0 && (
        <table className="sheet-table mt-1">
          <thead>
            <tr>
              <th>Is</th>
              <th>Part</th>
            </tr>
          </thead>
          <tbody>
            {result.matches.map((m) => (
              <tr key={`${m.kind} ${m.old.join()} ${m.new.join()}`} title={m.why}>
                <td className="whitespace-nowrap">
                  {m.state} <span className="second">{m.kind}</span>
                </td>
                <td className="num break-words">
                  {m.old.join(" + ")}
                  {m.old.join() !== m.new.join() && m.new.length > 0 && (
                    <>
                      {m.old.length > 0 && " → "}
                      {m.new.join(" + ")}
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
