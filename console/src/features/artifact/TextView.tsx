/** Raw text of an artifact, in the encoding found or chosen. */

import { useQuery } from "@tanstack/react-query";
import { text } from "../../api/queries";
import { size } from "../../marks/words";
import { Choice } from "../../parts/Choice";
import { later } from "../../parts/later";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";

const ENCODINGS = ["", "utf-8", "utf-16", "latin-1", "cp1252", "shift_jis"];
const ReadText = later(() => import("../text/ReadText"), <Loading what="Reading the text" />);

export function TextView({ shelf, path, at, version }: { shelf: string; path: string; at: string; version: string }) {
  const [encoding, setEncoding] = useParam("encoding");
  const found = useQuery(text(shelf, path, at, version || undefined, encoding || undefined));
  return (
    <section className="sheet" aria-label="Raw text">
      <div className="ph">
        <h2 className="h3">Raw text</h2>
        {found.data && (
          <span className="cap">
            {found.data.encoding}, {size(found.data.size)}
            {found.data.truncated ? ", the beginning is shown" : ""}
          </span>
        )}
        <span className="r">
          <Choice id="encoding" label="Encoding" value={encoding} onChange={(e) => setEncoding(e.target.value)}>
            {ENCODINGS.map((e) => (
              <option key={e} value={e}>
                {e || "found"}
              </option>
            ))}
          </Choice>
        </span>
      </div>
      {found.isPending && <Loading what="Reading the text" />}
      {found.isError && (
        <div className="pad">
          <ProblemBox error={found.error} />
        </div>
      )}
      {found.data && <ReadText path={path} text={found.data.text} label={`Text of ${path}`} />}
    </section>
  );
}
