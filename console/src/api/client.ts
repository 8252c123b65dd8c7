/** The one place where requests are sent; failures become ProblemError.
 *
 * `answer(api.GET("/shelves/{shelf}", { params: { path: { shelf } } }))` is typed by the OpenAPI document: addresses,
 * parameters, bodies and answers.
 */
import createClient, { type FetchResponse } from "openapi-fetch";
import type { MediaType, ResponseObjectMap, SuccessResponse } from "openapi-typescript-helpers";
import { fetchOrTake } from "./ahead";
import { address, asked, BASE, type Given } from "./query";
import type { components, paths } from "./schema";

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
  /** A job that works the answer out. */
  job?: string;
  /** The answer is there when that job has ended. */
  again?: boolean;
}

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const UNREACHABLE: Problem = {
  detail: "Cannot reach the service. This page may be out of date; your input is kept in this browser.",
  code: "service.unreachable",
  hint: "Check that it is running, then try again.",
};

/** Events of the window: an answer says that the session has ended; someone signed in again on the same page. */
export const SIGNED_OUT = "everyshelf:signed-out";
export const SIGNED_IN = "everyshelf:signed-in";

export function isSignedOut(error: unknown): boolean {
  return error instanceof ProblemError && error.problem.code === "session.missing";
}

function csrf(): string {
  return document.cookie.match(/everyshelf_csrf=([^;]+)/)?.[1] ?? "";
}

/** Told of a job that an answer waits for, and again when it ended: the shell shows how far it is. */
export const WORKED_OUT = "everyshelf:worked-out";
const MOST_WAITS = 20;
const PAUSE_MS = 400;

type JobState = Pick<Schemas["JobOut"], "state" | "ended" | "problem">;

/** Why a job did not end well. */
export function problemOf(job: JobState): ProblemError {
  return new ProblemError(job.problem ?? { detail: `The job was ${job.state}.`, code: "job.failed" });
}

async function ended(uid: string): Promise<void> {
  const tell = (detail: string | null) => window.dispatchEvent(new CustomEvent(WORKED_OUT, { detail }));
  tell(uid);
  try {
    for (;;) {
      const job = (await (await fetch(address(`jobs/${uid}`))).json()) as JobState;
      if (job.ended && job.state !== "done") throw problemOf(job);
      if (job.ended) return;
      await new Promise((go) => setTimeout(go, PAUSE_MS));
    }
  } finally {
    tell(null);
  }
}

/** An answer; where a job works it out first, it is asked for again once that is done. */
async function respond(request: () => Promise<Response>, waits = 0): Promise<Response> {
  let response: Response;
  try {
    response = await request();
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
  if (problem.again && problem.job && waits < MOST_WAITS) {
    await ended(problem.job);
    return respond(request, waits + 1);
  }
  const refused = new ProblemError(problem);
  if (isSignedOut(refused)) window.dispatchEvent(new Event(SIGNED_OUT));
  throw refused;
}

// biome-ignore lint/suspicious/noExplicitAny: the bound the library puts on an operation
type Operation = Record<string | number, any>;

type BelowBase<P> = { [K in keyof P as K extends `/api/v1${infer R}` ? R : never]: P[K] };

export const api = createClient<BelowBase<paths>>({
  baseUrl: BASE,
  querySerializer: asked,
  fetch: (request) => respond(() => fetchOrTake(request)),
});
api.use({
  onRequest({ request }) {
    if (request.method === "GET") return;
    request.headers.set("X-CSRFToken", csrf());
    request.headers.set("Idempotency-Key", crypto.randomUUID());
  },
});

/** For what a page can do without: an answer that a job works out first is not waited for, it is refused. */
export const AT_ONCE = { fetch: (request: Request) => respond(() => fetch(request.clone()), MOST_WAITS) };

/** Whether a job works the answer out, so that it is there later. */
export function isWorkedOut(error: Error): boolean {
  return error instanceof ProblemError && error.problem.again === true && error.problem.job !== undefined;
}

/** What was answered. A refusal has become a ProblemError by then, so that it is there, save for answers without one. */
export async function answer<T extends Operation, Options, Media extends MediaType>(
  call: Promise<FetchResponse<T, Options, Media>>,
): Promise<SuccessResponse<ResponseObjectMap<T>, Media>> {
  return (await call).data as SuccessResponse<ResponseObjectMap<T>, Media>;
}

/** Save a file that the service makes; where a job works it out first, that is waited for. */
export async function save(path: string, query?: Given): Promise<void> {
  const response = await respond(() => fetch(address(path, query)));
  const named = /filename\*=UTF-8''([^;]+)|filename="([^"]+)"/i.exec(response.headers.get("Content-Disposition") ?? "");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = named?.[1] ? decodeURIComponent(named[1]) : (named?.[2] ?? "report");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}

/** Save a file that may be large: asked for its first byte, the service says whether it can be had; then the browser takes it. */
export async function saveLarge(path: string, query?: Given): Promise<void> {
  await respond(() => fetch(address(path, query), { headers: { Range: "bytes=0-0" } }));
  const link = document.createElement("a");
  link.href = address(path, query);
  link.download = "";
  link.click();
}

/** The bytes of a file. */
export async function blob(path: string, query?: Given): Promise<Blob> {
  return (await respond(() => fetch(address(path, query)))).blob();
}

export async function putFile(shelf: string, file: Blob): Promise<Schemas["ContentOut"]> {
  const response = await respond(() =>
    fetch(address(`shelves/${shelf}/contents`), {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": csrf() },
      body: file,
    }),
  );
  return (await response.json()) as Schemas["ContentOut"];
}

/** Several small files in one call, in order: each after its length, 8 bytes, big-endian. */
export async function putFiles(shelf: string, files: Blob[]): Promise<Schemas["ContentOut"][]> {
  const pieces = files.flatMap((file) => {
    const length = new DataView(new ArrayBuffer(8));
    length.setBigUint64(0, BigInt(file.size));
    return [length.buffer, file];
  });
  const response = await respond(() =>
    fetch(address(`shelves/${shelf}/contents/many`), {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": csrf() },
      body: new Blob(pieces),
    }),
  );
  return ((await response.json()) as Schemas["ContentsOut"]).contents;
}
