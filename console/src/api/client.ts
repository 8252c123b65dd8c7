/** The one place where requests are sent; failures become ProblemError. */
import type { components } from "./schema";

export type Schemas = components["schemas"];

export interface Problem {
  detail: string;
  code: string;
  hint?: string;
  status?: number;
  request?: string;
  errors?: { pointer: string; detail: string }[];
  conflicts?: { path: string }[];
  /** A merge that waits to be settled. */
  merge?: string;
}

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const UNREACHABLE: Problem = {
  detail: "The service is out of reach. What you see is from before; what you typed is kept here.",
  code: "service.unreachable",
  hint: "Look whether it runs, then try again.",
};

function csrf(): string {
  return document.cookie.match(/everyshelf_csrf=([^;]+)/)?.[1] ?? "";
}

async function answer(request: Promise<Response>): Promise<Response> {
  let response: Response;
  try {
    response = await request;
  } catch {
    throw new ProblemError(UNREACHABLE);
  }
  if (response.ok) return response;
  let problem: Problem = { detail: `The service answered ${response.status}.`, code: "service.failed" };
  try {
    problem = (await response.json()) as Problem;
  } catch {
    // an answer without a body of ours: the status says it
  }
  throw new ProblemError(problem);
}

export function address(path: string, query: Record<string, string | number | undefined> = {}): string {
  const given = Object.entries(query).filter(([, v]) => v !== undefined && v !== "");
  const text = new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString();
  return `/api/v1/${path}${text ? `?${text}` : ""}`;
}

export async function get<T>(path: string, query?: Record<string, string | number | undefined>): Promise<T> {
  const response = await answer(fetch(address(path, query), { headers: { Accept: "application/json" } }));
  return (await response.json()) as T;
}

/** The bytes of a file. */
export async function blob(path: string, query?: Record<string, string | number | undefined>): Promise<Blob> {
  return (await answer(fetch(address(path, query)))).blob();
}

export async function send<T>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await answer(
    fetch(address(path), {
      method,
      headers: { "Content-Type": "application/json", "X-CSRFToken": csrf(), "Idempotency-Key": crypto.randomUUID() },
      body: body === undefined ? "{}" : JSON.stringify(body),
    }),
  );
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export async function putFile(shelf: string, file: Blob): Promise<Schemas["ContentOut"]> {
  const response = await answer(
    fetch(address(`shelves/${shelf}/contents`), {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": csrf() },
      body: file,
    }),
  );
  return (await response.json()) as Schemas["ContentOut"];
}
