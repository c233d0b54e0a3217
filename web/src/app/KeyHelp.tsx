import { type RefObject, useEffect } from "react";
import { SHEETS } from "../sheets/registry";
import { typing } from "../ui/keys";

const EVERYWHERE = [
  ["/", "find anything on this sheet"],
  ["?", "these keys"],
] as const;

/** The keys of every sheet that has some; opened by ? from anywhere. The / key goes to the sheet's search. */
export function KeyHelp({ dialog }: { dialog: RefObject<HTMLDialogElement | null> }) {
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
  }, [dialog]);
  const groups = [
    ...SHEETS.filter((s) => s.keys.length).map((s) => [s.name, s.keys] as const),
    ["Everywhere", EVERYWHERE] as const,
  ];
  return (
    <dialog
      ref={dialog}
      className="m-auto bg-base-100 text-base-content border border-base-content p-5 w-[380px]"
      aria-label="Keys"
    >
      <h2>Keys</h2>
      {groups.map(([name, keys]) => (
        <table key={name} className="sheet-table mt-2">
          <caption className="text-left second">{name}</caption>
          <tbody>
            {keys.map(([key, what]) => (
              <tr key={key}>
                <td className="num w-16">{key}</td>
                <td>{what}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ))}
      <form method="dialog" className="mt-3">
        <button type="submit" className="btn btn-sm">
          Close
        </button>
      </form>
    </dialog>
  );
}
