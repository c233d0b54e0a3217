import { useCallback, useState } from "react";
import { type Form, read, written } from "./values";

/** The build, and as what it is looked at. */
export type Where = { project: number; build: number; viewpoint: string; target: string | null };

export type Edit = { path: string[]; name: string; form: Form; text: string; was: unknown };

const keyOf = (path: string[]) => JSON.stringify(path);

/** Edits that are tried together. One that is put back to what is in force is none. */
export function useEdits() {
  const [edits, setEdits] = useState<Edit[]>([]);
  const begin = useCallback(
    (path: string[], name: string, form: Form, was: unknown, text?: string) =>
      setEdits((all) =>
        all.some((e) => keyOf(e.path) === keyOf(path))
          ? all
          : [...all, { path, name, form, was, text: text ?? written(was) }],
      ),
    [],
  );
  const write = useCallback(
    (path: string[], text: string) =>
      setEdits((all) => all.map((e) => (keyOf(e.path) === keyOf(path) ? { ...e, text } : e))),
    [],
  );
  const take = useCallback(
    (path: string[]) => setEdits((all) => all.filter((e) => keyOf(e.path) !== keyOf(path))),
    [],
  );
  const clear = useCallback(() => setEdits([]), []);
  const of = (path: string[]) => edits.find((e) => keyOf(e.path) === keyOf(path));
  return { edits, begin, write, take, clear, of };
}

export type Edits = ReturnType<typeof useEdits>;

/** What the server is asked. */
export const asked = (edits: Edit[]) => edits.map((e) => ({ path: e.path, value: read(e.text, e.form) }));
