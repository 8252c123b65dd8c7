import { Link } from "react-router";
import type { ArtifactVersion } from "../../api/queries";
import { Effect } from "../../marks/Mark";
import { size, when } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";

/** Versions as bars: height and fill tell the effect on users. */
export function Versions({
  versions,
  total,
  now,
  onChoose,
  onAll,
}: {
  versions: ArtifactVersion[];
  total: number;
  now: number | null;
  onChoose: (n: number) => void;
  onAll: () => void;
}) {
  const shown = versions
    .filter((v) => v.version !== null)
    .slice(0, 30)
    .reverse();
  return (
    <section className="sheet" style={{ marginTop: 10 }} aria-label="Versions">
      <div className="ph">
        <h2 className="h3">Versions</h2>
        <span className="cap">bar height and fill show the effect of each version</span>
        <span className="r">
          <TextAct onClick={onAll}>All {total}</TextAct>
        </span>
      </div>
      <div className="ver">
        {shown.map((v) => (
          <RowAct
            key={v.version}
            className={`${v.effect || "alters"} ${v.version === now ? "now" : ""}`}
            aria-label={`version ${v.version}, ${v.effect || "effect not known"}, ${v.headline}, ${when(v.recorded)} by ${v.author}`}
            title={`${v.summary}: ${v.headline}`}
            onClick={() => onChoose(v.version ?? 1)}
          >
            <i />
            {v.version}
          </RowAct>
        ))}
      </div>
    </section>
  );
}

export function VersionTable({ versions, shelf, path, at }: { versions: ArtifactVersion[]; shelf: string; path: string; at: string }) {
  return (
    <section className="sheet scroll" aria-label="History">
      <Table>
        <thead>
          <tr>
            <th className="num">Version</th>
            <th>When</th>
            <th>Who</th>
            <th>Commit</th>
            <th>Effect</th>
            <th>What changed</th>
            <th className="num">Size</th>
            <th>
              <span className="sr">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {versions.map((v, i) => (
            <tr key={`${v.commit}${i}`}>
              <td className="num">
                {v.removed || !v.version ? (
                  <b>gone</b>
                ) : (
                  <Link to={`/s/${shelf}/version?${new URLSearchParams({ path, ref: at, version: String(v.version) })}`}>
                    <b>{v.version}</b>
                  </Link>
                )}
              </td>
              <td title={v.recorded ?? ""}>{when(v.recorded)}</td>
              <td>{v.author}</td>
              <td>
                {v.commit ? <Link to={`/s/${shelf}/commit/${v.commit}`}>{v.summary}</Link> : v.summary}
                {v.moved_from ? <span className="mut"> moved from {v.moved_from}</span> : ""}
              </td>
              <td>
                <Effect effect={v.effect} />
              </td>
              <td className="sec">
                {v.headline}
                {v.here ? "" : <i className="w"> on another branch</i>}
              </td>
              <td className="num">{v.removed ? "" : size(v.size)}</td>
              <td>
                {(v.version ?? 0) > 1 && (
                  <Link
                    to={`/s/${shelf}/compare?${new URLSearchParams({ path, from: `version:${(v.version ?? 2) - 1}`, to: `version:${v.version}` })}`}
                  >
                    Compare
                  </Link>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}
