/** What a page needs first is asked for while the console itself is still being fetched and read. */
import { address } from "./query";

const coming = new Map<string, { at: number; answer: Promise<Response> }>();
/** Older answers may not be true any more. */
const NEW_MS = 5_000;

/** List what the page at an address of the console asks for first; nothing that it would not ask for itself. */
export function firstNeeds(pathname: string, search: string): string[] {
  const needs = [address("session")];
  const [, s, key, page] = pathname.split("/");
  if (s !== "s" || !key) return needs;
  needs.push(address(`shelves/${key}`));
  const params = new URLSearchParams(search);
  const given = (name: string) => params.get(name) ?? undefined;
  const ref = given("ref") ?? "main";
  if (page === undefined || page === "" || page === "artifact") needs.push(address(`shelves/${key}/summary`, { ref }));
  if (!page && [...params.keys()].every((name) => name === "ref"))
    needs.push(address(`shelves/${key}/artifacts`, { sort: "-when", ref, start: 0, limit: 200 }));
  if (page === "artifact") {
    const of = { path: given("path"), ref, version: given("version") };
    needs.push(address(`shelves/${key}/artifact`, of)); // not its outline: that of a very large table is left out by the page
  }
  if (page === "compare" && given("from") && !given("path"))
    needs.push(address(`shelves/${key}/compare`, { from: given("from"), to: given("to") ?? "main" }));
  return needs;
}

export function askAhead(pathname: string, search: string): void {
  const at = Date.now();
  for (const one of firstNeeds(pathname, search)) {
    const answer = fetch(one, { headers: { Accept: "application/json" } });
    answer.catch(() => undefined); // who takes it asks again
    coming.set(new URL(one, window.location.href).href, { at, answer });
  }
}

/** Fetch what is asked for, or take the answer that is on its way: once, while it is new, and only a good one. */
export async function fetchOrTake(request: Request): Promise<Response> {
  const known = request.method === "GET" ? coming.get(request.url) : undefined;
  if (known) {
    coming.delete(request.url);
    const response = Date.now() - known.at < NEW_MS ? await known.answer.catch(() => undefined) : undefined;
    if (response?.ok) return response;
  }
  return fetch(request.clone());
}
