import { useQuery } from "@tanstack/react-query";
import { text } from "../../api/queries";
import { size } from "../../marks/words";
import { Choice } from "../../parts/Choice";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";

const ENCODINGS = ["", "utf-8", "utf-16", "latin-1", "cp1252", "shift_jis"];
const MOST_LINES = 5000;

export function TextView({ shelf, path, at, version }: { shelf: string; path: string; at: string; version: string }) {
  const [encoding, setEncoding] = useParam("encoding");
  const found = useQuery(text(shelf, path, at, version || undefined, encoding || undefined));
  const lines = found.data ? found.data.text.split(/\r\n|\r|\n/) : [];
  return (
    <section className="sheet" aria-label="Raw text">
      <div className="ph">
        <h2 className="h3">Raw text</h2>
        {found.data && (
          <span className="cap">
            {found.data.encoding}, {size(found.data.size)}
            {found.data.truncated || lines.length > MOST_LINES ? ", the beginning is shown" : ""}
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
      {found.data && (
        <pre className="text" tabIndex={0} role="region" aria-label={`Text of ${path}`}>
          {lines.slice(0, MOST_LINES).map((line, i) => (
            <span key={i}>{line}</span>
          ))}
        </pre>
      )}
    </section>
  );
}
