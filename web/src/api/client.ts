import createClient, { createQuerySerializer, type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";
import { fromWire, toWire } from "./wire";

export type Schema = components["schemas"];
export type TideRow = Schema["TideRow"];
export type Finding = Schema["Finding"];
export type Entry = Schema["Entry"];
export type Scan = Schema["Scan"];
export type Job = Schema["Job"];
export type Curve = Schema["Curve"];
export type ChartWindow = Schema["Window"];
export type Preview = Schema["Preview"];
export type Choices = Schema["ChoicesRequest"];
export type IncidentRow = Schema["IncidentRow"];
export type Incident = Schema["Incident"];
export type Verdict = Schema["VerdictEnum"];

/** An answer that says what is wrong, where, and what to do (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly place = "",
    readonly remedy = "",
    readonly problems: { place: string; message: string; line?: number | null }[] = [],
  ) {
    super(remedy ? `${title}; ${remedy}` : title);
  }
}

let csrfCookie = "watchtide_csrf";

export function rememberCsrfCookie(name: string): void {
  csrfCookie = name;
}

export function csrfToken(): string {
  const pair = document.cookie.split("; ").find((c) => c.startsWith(`${csrfCookie}=`));
  return pair ? decodeURIComponent(pair.slice(csrfCookie.length + 1)) : "";
}

export async function problemOf(response: Response): Promise<Problem> {
  try {
    const body = await response.json();
    return new Problem(
      response.status,
      body.title ?? response.statusText,
      body.place,
      body.remedy,
      body.problems,
    );
  } catch {
    return new Problem(
      response.status,
      `the server answered ${response.status}`,
      "",
      "try again in a moment",
    );
  }
}

/** What is polled, and its latest answer by address: unchanged, it is not sent again. */
const POLLED = ["/api/v1/tide", "/api/v1/tide/rows", "/api/v1/jobs"];
const latest = new Map<string, { etag: string; response: Response }>();
const MOST_REMEMBERED = 16;

function isPolled(request: Request): boolean {
  return request.method === "GET" && POLLED.includes(new URL(request.url).pathname);
}

function remember(url: string, response: Response): void {
  const etag = response.headers.get("ETag");
  if (!etag) return;
  latest.delete(url);
  latest.set(url, { etag, response: response.clone() });
  const oldest = latest.keys().next().value;
  if (latest.size > MOST_REMEMBERED && oldest !== undefined) latest.delete(oldest);
}

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrfToken());
    const known = isPolled(request) ? latest.get(request.url) : undefined;
    if (known) request.headers.set("If-None-Match", known.etag);
    return request;
  },
  async onResponse({ request, response }) {
    const known = latest.get(request.url);
    if (response.status === 304 && known) return known.response.clone();
    if (response.ok && isPolled(request)) remember(request.url, response);
    if (response.ok) return response;
    const problem = await problemOf(response);
    // A wrong password signs nobody out.
    const isSignIn = request.method === "POST" && request.url.endsWith("/api/v1/session");
    if (response.status === 401) latest.clear();
    if (response.status === 401 && !isSignIn) window.dispatchEvent(new Event("watchtide:signed-out"));
    throw problem;
  },
};

const serializeQuery = createQuerySerializer();

export const api = createClient<paths>({
  baseUrl: "",
  querySerializer: (query) => serializeQuery(toWire(query) as Record<string, unknown>),
  bodySerializer: (body) => JSON.stringify(toWire(body)),
});
api.use(guard);

/** What stands behind the question mark of an address of the API. */
export function queryOf(values: Record<string, unknown>): string {
  return serializeQuery(toWire(values) as Record<string, unknown>);
}

/** For a change: only if it is still what was read, so that nobody's change is lost. */
export function onlyIf(read: { etag?: string } | undefined): { headers?: { "If-Match": string } } {
  return read?.etag ? { headers: { "If-Match": read.etag } } : {};
}

/** The data of an answer; errors were thrown by the guard. */
export async function get<T>(answer: Promise<{ data?: T }>): Promise<T> {
  const { data } = await answer;
  return fromWire(data) as T;
}

/** The items of a list's first page. */
export async function list<T>(answer: Promise<{ data?: { items: T[] } }>): Promise<T[]> {
  return (await get(answer)).items;
}

/** Send a file as a form, which the generated client has no good words for. */
export async function sendFile<T>(url: string, file: File, fields: Record<string, string> = {}): Promise<T> {
  const form = new FormData();
  for (const [name, value] of Object.entries(fields)) form.append(name, value);
  form.append("file", file);
  const response = await fetch(url, { method: "POST", body: form, headers: { "X-CSRFToken": csrfToken() } });
  if (!response.ok) throw await problemOf(response);
  return fromWire(await response.json()) as T;
}
