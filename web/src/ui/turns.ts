let free = 2;
const queue: (() => void)[] = [];

/** Waits for one of two turns, so that many pictures leave connections for what is asked meanwhile. Returns what ends the turn, or the wait. */
export function takeTurn(start: () => void): () => void {
  let state: "waiting" | "held" | "over" = "waiting";
  const begin = () => {
    state = "held";
    start();
  };
  if (free > 0) {
    free--;
    begin();
  } else queue.push(begin);
  return () => {
    if (state === "held") {
      const next = queue.shift();
      if (next) next();
      else free++;
    } else if (state === "waiting") queue.splice(queue.indexOf(begin), 1);
    state = "over";
  };
}
