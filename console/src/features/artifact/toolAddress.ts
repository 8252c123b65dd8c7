/** The address under which data tools read an artifact; the service's own file system for them takes it apart again. */
export function toolAddress(host: string, shelf: string, at: string, path: string): string {
  return `shelf://${host}/${shelf}@${at.replaceAll("/", "%2F")}/${path}`;
}
