import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { vi } from "vitest";

export type Asked = { method: string; path: string; body: unknown; headers: Headers };
type Answer = unknown | ((asked: Asked) => unknown);

/** A server at the end of the wire: answers by "METHOD /path", with the longest beginning that fits; returns what it was asked.
 *  An answer with a `status` of 400 or more is a refusal. */
export function serve(answers: Record<string, Answer>): Asked[] {
  const asked: Asked[] = [];
  vi.stubGlobal("fetch", async (input: Request | string, init?: RequestInit) => {
    const request = typeof input === "string" ? new Request(new URL(input, "http://here"), init) : input;
    const path = new URL(request.url).pathname + new URL(request.url).search;
    const text = request.method === "GET" ? "" : await request.clone().text();
    const one = {
      method: request.method,
      path,
      body: text ? JSON.parse(text) : null,
      headers: request.headers,
    };
    asked.push(one);
    const key = Object.keys(answers)
      .filter((k) => `${request.method} ${path}`.startsWith(k))
      .sort((a, b) => b.length - a.length)[0];
    const found = key === undefined ? { status: 404, detail: `nothing at ${path}` } : answers[key];
    const body = typeof found === "function" ? found(one) : found;
    const status = (body as { status?: unknown } | null)?.status;
    return new Response(JSON.stringify(body), { status: typeof status === "number" ? status : 200 });
  });
  return asked;
}

export function around({ children, at = "/" }: { children?: ReactNode; at?: string }) {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return (
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[at]}>{children}</MemoryRouter>
    </QueryClientProvider>
  );
}
