type Op = { op: string; path: string; value?: unknown };

/** The patch of the user's own settings, as a diff: one changed leaf is one hunk. */
export function Patch({ patch }: { patch: Op[] }) {
  const hunks = patch.filter((o) => o.op !== "test");
  const before = new Map(patch.filter((o) => o.op === "test").map((o) => [o.path, o.value]));
  return (
    <section>
      <h2>
        Patch preview{" "}
        <span className="second font-normal">
          {hunks.length} hunk{hunks.length === 1 ? "" : "s"}
        </span>
      </h2>
      {hunks.length === 0 && (
        <p className="second mt-1">
          The settings document does not change. Changes to buffers are in the repaired scene file.
        </p>
      )}
      <ul className="mt-1">
        {hunks.map((o) => (
          <li key={o.path} className="num border border-base-300 bg-base-100 mb-2 overflow-x-auto">
            <div className="px-2 py-1 border-b hair second">{o.path}</div>
            {o.op === "replace" && (
              <pre className="px-2 text-error">- {JSON.stringify(before.get(o.path))}</pre>
            )}
            {o.op === "remove" && <pre className="px-2 text-error">- (removed)</pre>}
            {o.op !== "remove" && <pre className="px-2 text-success">+ {JSON.stringify(o.value)}</pre>}
          </li>
        ))}
      </ul>
    </section>
  );
}
