import { useEffect, useState } from "react";
import type { Account } from "./queries";

export const FIRST = 4;
export const MOST = 64; // samples that are gone to by themselves
export const ALL = 1024; // that the server follows
const STEP = 16; // at the most, so that frames are drawn in between
const GOOD = 0.02; // noise that is good enough to stop at

/** Samples to ask for: they grow by themselves while a sheet is looked at, until the noise is small, there are enough, or one says stop. */
export function useSamples(of: string, account: Account | undefined) {
  const [state, setState] = useState({ of, samples: FIRST, goal: MOST });
  const mine = state.of === of ? state : { of, samples: FIRST, goal: MOST };
  if (state.of !== of) setState(mine);
  const there = account?.noise.samples ?? 0;
  const good = (account?.noise.value ?? 1) <= GOOD && mine.goal <= MOST;
  const more = account !== undefined && there >= mine.samples && there < mine.goal && !good;
  useEffect(() => {
    if (more) setState((s) => ({ ...s, samples: Math.min(there + Math.min(there, STEP), s.goal) }));
  }, [more, there]);
  return {
    samples: mine.samples,
    growing: there < mine.goal && !good,
    stop: () => setState((s) => ({ ...s, goal: there })),
    goOn: () => setState((s) => ({ ...s, goal: Math.min(Math.max(there * 4, MOST), ALL) })),
  };
}
