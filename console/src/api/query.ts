/** Addresses of the service's interface. */

export const BASE = "/api/v1";

export type Given = Record<string, unknown>;

/** What is asked for; what is empty or not given is not sent. */
export function asked(query: Given): string {
  const text = new URLSearchParams();
  for (const [name, value] of Object.entries(query))
    for (const one of Array.isArray(value) ? value : [value])
      if (one !== undefined && one !== null && one !== "") text.append(name, String(one));
  return text.toString();
}

export function address(path: string, query: Given = {}): string {
  const text = asked(query);
  return `${BASE}/${path}${text ? `?${text}` : ""}`;
}
