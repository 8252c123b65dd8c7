/** A Markdown file as it reads. */
import { useQuery } from "@tanstack/react-query";
import { text } from "../../api/queries";
import { Loading, ProblemBox } from "../../shell/states";
import { Markdown } from "../text/Markdown";

export default function MarkedView({ shelf, path, at, version }: { shelf: string; path: string; at: string; version?: string }) {
  const found = useQuery(text(shelf, path, at, version));
  if (found.isError) return <ProblemBox error={found.error} />;
  if (!found.data) return <Loading what="Reading the text" />;
  return (
    <section className="sheet pad" aria-label="As it reads">
      <h2 className="sr">As it reads</h2>
      {found.data.truncated && <p className="cap">The beginning is shown; download it to read all.</p>}
      <Markdown text={found.data.text} />
    </section>
  );
}
