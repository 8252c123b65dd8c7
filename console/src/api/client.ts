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
  /** A job that works the answer out. */
  job?: string;
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

function csrf(): string {
  return document.cookie.match(/everyshelf_csrf=([^;]+)/)?.[1] ?? "";
}

/** Told of a job that an answer waits for, and again when it ended: the shell shows how far it is. */
export const WORKED_OUT = "everyshelf:worked-out";
const WAITS_FOR_A_JOB = ["merge.reading", "origins.reading", "uses.reading", "rows.reading", "compare.pending"];
const MOST_WAITS = 20;
const PAUSE_MS = 400;

type JobState = { state: string; ended: string | null; problem: Problem | null };

async function ended(uid: string): Promise<void> {
  const tell = (detail: string | null) => window.dispatchEvent(new CustomEvent(WORKED_OUT, { detail }));
  tell(uid);
  try {
    for (;;) {
      const job = (await (await fetch(address(`jobs/${uid}`))).json()) as JobState;
      if (job.ended && job.state !== "done")
        throw new ProblemError(job.problem ?? { detail: `The job was ${job.state}.`, code: "job.failed" });
      if (job.ended) return;
      await new Promise((go) => setTimeout(go, PAUSE_MS));
    }
  } finally {
    tell(null);
  }
}

/** An answer; where a job works it out first, it is asked for again once that is done. */
async function answer(request: () => Promise<Response>, waits = 0): Promise<Response> {
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
  if (WAITS_FOR_A_JOB.includes(problem.code ?? "") && problem.job && waits < MOST_WAITS) {
    await ended(problem.job);
    return answer(request, waits + 1);
  }
  throw new ProblemError(problem);
}

export function address(path: string, query: Record<string, string | number | undefined> = {}): string {
  const given = Object.entries(query).filter(([, v]) => v !== undefined && v !== "");
  const text = new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString();
  return `/api/v1/${path}${text ? `?${text}` : ""}`;
}

export async function get<T>(path: string, query?: Record<string, string | number | undefined>): Promise<T> {
  return getFrom<T>(address(path, query));
}

/** What an address of the service answers; see `address`. */
export async function getFrom<T>(whole: string): Promise<T> {
  const response = await answer(() => fetch(whole, { headers: { Accept: "application/json" } }));
  return (await response.json()) as T;
}

/** Save a file that the service makes; where a job works it out first, that is waited for. */
export async function save(path: string, query?: Record<string, string | number | undefined>): Promise<void> {
  const response = await answer(() => fetch(address(path, query)));
  const named = /filename\*=UTF-8''([^;]+)|filename="([^"]+)"/i.exec(response.headers.get("Content-Disposition") ?? "");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = named?.[1] ? decodeURIComponent(named[1]) : (named?.[2] ?? "report");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}

/** The bytes of a file. */
export async function blob(path: string, query?: Record<string, string | number | undefined>): Promise<Blob> {
  return (await answer(() => fetch(address(path, query)))).blob();
}

export async function send<T>(method: string, path: string, body?: unknown): Promise<T> {
  const key = crypto.randomUUID();
  const response = await answer(() =>
    fetch(address(path), {
      method,
      headers: { "Content-Type": "application/json", "X-CSRFToken": csrf(), "Idempotency-Key": key },
      body: body === undefined ? "{}" : JSON.stringify(body),
    }),
  );
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export async function putFile(shelf: string, file: Blob): Promise<Schemas["ContentOut"]> {
  const response = await answer(() =>
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
  const response = await answer(() =>
    fetch(address(`shelves/${shelf}/contents/many`), {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream", "X-CSRFToken": csrf() },
      body: new Blob(pieces),
    }),
  );
  return ((await response.json()) as Schemas["ContentsOut"]).contents;
}
