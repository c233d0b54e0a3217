import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import type { TrialDocument } from "../../api/client";
import { casePath, csrf } from "../../api/client";
import { keys } from "../../api/keys";

type Line = { trial?: TrialDocument; progress?: number; what?: string; done?: unknown; error?: string };

/** Runs a line-up and hands on trials as they finish. */
export function useLineUp(project: number, build: number, number: number, onDone: () => void) {
  const queries = useQueryClient();
  const [live, setLive] = useState<TrialDocument[]>([]);
  const [progress, setProgress] = useState<{ share: number; what: string } | null>(null);
  const [error, setError] = useState<string | null>(null);
  const busy = useRef(false);
  const dropped = useRef<AbortController>(undefined);
  useEffect(() => () => dropped.current?.abort(), []); // who leaves the case no longer waits for its line-up
  const run = useCallback(
    async (all: boolean) => {
      if (busy.current) return;
      busy.current = true;
      dropped.current = new AbortController();
      setLive([]);
      setError(null);
      setProgress({ share: 0, what: "starting" });
      const take = (line: Line) => {
        if (line.trial) setLive((before) => [...before, line.trial as TrialDocument]);
        if (line.progress !== undefined) setProgress({ share: line.progress, what: line.what ?? "" });
        if (line.error) setError(line.error);
        if (line.done) {
          queries.setQueryData(keys.case(project, build, number), line.done);
          onDone();
        }
      };
      try {
        const answer = await fetch(`${casePath(project, build, number)}/line-up?try_all=${all}`, {
          method: "POST",
          headers: { "X-CSRFToken": csrf() },
          signal: dropped.current.signal,
        });
        if (!answer.ok || !answer.body)
          throw new Error((await answer.json()).detail ?? `The server answered ${answer.status}.`);
        const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
        let rest = "";
        for (;;) {
          const { done, value } = await reader.read();
          if (done) break;
          const lines = (rest + value).split("\n");
          rest = lines.pop() ?? "";
          for (const text of lines) take(JSON.parse(text));
        }
      } catch (e) {
        if (dropped.current.signal.aborted) return;
        setError(e instanceof Error ? e.message : "The line-up broke off; run it again.");
      } finally {
        busy.current = false;
        setProgress(null);
        setLive([]);
        queries.invalidateQueries({ queryKey: keys.case(project, build, number) });
      }
    },
    [project, build, number, queries, onDone],
  );
  return { run, live, progress, error };
}
