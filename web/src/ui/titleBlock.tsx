import { createContext, type ReactNode, useCallback, useContext, useEffect, useState } from "react";

export type Block = Record<string, string>;
const Setting = createContext<(block: Block) => void>(() => {});
const Standing = createContext<Block>({});

/** Fields a sheet adds to the title block along the bottom. */
export function useTitleBlock(block: Block) {
  const set = useContext(Setting);
  const text = JSON.stringify(block);
  useEffect(() => {
    set(JSON.parse(text));
    return () => set({});
  }, [set, text]);
}

/** What the sheet on show has added. */
export const useBlock = () => useContext(Standing);

export function TitleBlockRoom({ children }: { children: ReactNode }) {
  const [block, setBlock] = useState<Block>({});
  const set = useCallback((b: Block) => setBlock(b), []);
  return (
    <Setting value={set}>
      <Standing value={block}>{children}</Standing>
    </Setting>
  );
}
