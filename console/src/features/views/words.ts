/** What a saved view shows, in words: the page, and what it is narrowed to. */
import { pageNamed } from "../../shell/destinations";

/** "/history?by=tobias&kind=workflow" is "History, by tobias, kind workflow". */
export function viewWords(address: string): string {
  const [path = "", query = ""] = address.split("?");
  const asked = [...new URLSearchParams(query)].map(([name, value]) => `${name.replaceAll("_", " ")} ${value}`);
  return [pageNamed(path), ...asked].join(", ");
}
