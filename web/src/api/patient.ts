/** Asking again when the server says when: 429 (much is waiting) and 503 (a part is starting again) are no failures yet. */

const MOST_TRIES = 20;
const LONGEST_S = 30;

/** Seconds after which an answer asks to be asked again; null if it does not. */
export function askAgainAfter(answer: Response): number | null {
  if (answer.status !== 429 && answer.status !== 503) return null;
  const seconds = Number(answer.headers.get("Retry-After"));
  return seconds > 0 ? Math.min(seconds, LONGEST_S) : null;
}

/** Wait, or stop waiting when it is no longer wanted. */
function pause(seconds: number, signal?: AbortSignal | null): Promise<void> {
  return new Promise((resolve, reject) => {
    const over = setTimeout(resolve, seconds * 1000);
    signal?.addEventListener("abort", () => {
      clearTimeout(over);
      reject(signal.reason);
    });
  });
}

/** fetch that waits its turn: what only reads is asked again when the server says when. */
export async function patientFetch(request: Request | string, init?: RequestInit): Promise<Response> {
  const method = typeof request === "string" ? (init?.method ?? "GET") : request.method;
  const signal = typeof request === "string" ? init?.signal : request.signal;
  for (let tries = 1; ; tries++) {
    const one = typeof request === "string" || method !== "GET" ? request : request.clone();
    const answer = await globalThis.fetch(one, init);
    const after = askAgainAfter(answer);
    if (method !== "GET" || after === null || tries >= MOST_TRIES) return answer;
    await pause(after, signal);
  }
}
