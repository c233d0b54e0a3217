import { useEffect, useRef } from "react";

const KEYS = [
  ["B", "hold: as it was before (Bench: the trial; Lightmaps: what is kept)"],
  ["L", "run the line-up"],
  ["K", "keep the chosen change"],
  ["D", "drop the last kept change"],
  ["[ ]", "previous, next trial"],
  [", .", "previous, next viewpoint"],
  ["G", "loupe"],
  ["Esc", "back up the sounding line"],
  ["/", "find anything on this sheet"],
  ["?", "these keys"],
] as const;

/** True if a key press belongs to a field and not to the sheet. */
export function typing(event: KeyboardEvent): boolean {
  const t = event.target as HTMLElement;
  return /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) || event.ctrlKey || event.metaKey || event.altKey;
}

export function KeyHelp() {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (typing(e)) return;
      if (e.key === "?") dialog.current?.showModal();
      if (e.key === "/") {
        const find = document.querySelector<HTMLInputElement>("input[data-find]");
        if (find) {
          e.preventDefault();
          find.focus();
        }
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  return (
    <>
      <button
        type="button"
        className="btn btn-sm btn-ghost"
        aria-label="Keys"
        onClick={() => dialog.current?.showModal()}
      >
        ?
      </button>
      <dialog
        ref={dialog}
        className="m-auto bg-base-100 text-base-content border border-base-content p-5 w-[380px]"
        aria-label="Keys"
      >
        <h2>Keys</h2>
        <table className="sheet-table mt-2">
          <tbody>
            {KEYS.map(([key, what]) => (
              <tr key={key}>
                <td className="num w-16">{key}</td>
                <td>{what}</td>
              </tr>
            ))}
          </tbody>
        </table>
        <form method="dialog" className="mt-3">
          <button type="submit" className="btn btn-sm">
            Close
          </button>
        </form>
      </dialog>
    </>
  );
}
