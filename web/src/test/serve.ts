import { vi } from "vitest";
import { api } from "../api/client";

type Route = (options: {
  params?: { path?: Record<string, unknown>; query?: Record<string, unknown> };
  body?: unknown;
  headers?: Record<string, string>;
}) => unknown;

interface Call {
  method: string;
  path: string;
  body: unknown;
  query?: Record<string, unknown>;
  headers?: Record<string, string>;
}

/** Answer the client's calls by method and path; a route that throws refuses. Returns what was called. */
export function serve(routes: Record<string, Route>): Call[] {
  const calls: Call[] = [];
  for (const method of ["GET", "POST", "PUT", "PATCH", "DELETE"] as const) {
    vi.spyOn(api, method).mockImplementation((async (path: string, options: Parameters<Route>[0] = {}) => {
      calls.push({
        method,
        path,
        body: options.body,
        query: options.params?.query,
        headers: options.headers,
      });
      const route = routes[`${method} ${path}`];
      if (!route) throw new Error(`no route ${method} ${path}`);
      const data = route(options);
      // Every list answers a page.
      return { data: Array.isArray(data) ? { items: data, next: null } : data };
    }) as never);
  }
  return calls;
}
