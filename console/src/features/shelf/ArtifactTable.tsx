/** The dense list; long lists are drawn window by window. */

import { Fragment } from "react";
import { Link } from "react-router";
import type { Artifact } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { size, tone, when } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { LongTable } from "../../shell/LongTable";
import { shownPath } from "./folders";
import { COLUMNS } from "./model";

interface Props {
  total: number;
  row: (index: number) => Artifact | undefined;
  onRange: (first: number, last: number) => void;
  sort: string;
  onSort: (sort: string) => void;
  href: (artifact: Artifact) => string;
  onOpen: (to: string) => void;
  /** The folder that is looked at: paths are shown from there. */
  folder: string;
  /** What the reader has edited and not committed, by path, and how. */
  edited: Map<string, string>;
}

export function ArtifactTable({ total, row, onRange, sort, onSort, href, onOpen, folder, edited }: Props) {
  const columns = edited.size > 0 ? 9 : 8;
  const walk = (event: React.KeyboardEvent<HTMLDivElement>) => {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step) return;
    event.preventDefault();
    const links = [...event.currentTarget.querySelectorAll<HTMLAnchorElement>("a.row")];
    const here = links.indexOf(document.activeElement as HTMLAnchorElement);
    links[Math.max(0, Math.min(links.length - 1, here + step))]?.focus();
  };
  return (
    <LongTable
      caption="Artifacts"
      className={edited.size > 0 ? "sheet list drafted" : "sheet list"}
      columns={columns}
      count={total}
      onKeyDown={walk}
      onRange={onRange}
      head={
        <tr>
          {COLUMNS.map(([id, label]) => {
            const on = sort.replace("-", "") === id;
            const down = sort.startsWith("-");
            const mine = id === "effect" && edited.size > 0 && <th scope="col">In your draft</th>;
            return (
              <Fragment key={id}>
                {mine}
                <th
                  scope="col"
                  className={id === "size" || id === "version" ? "num" : ""}
                  aria-sort={on ? (down ? "descending" : "ascending") : undefined}
                >
                  <RowAct className="sort" onClick={() => onSort(on && !down ? `-${id}` : id)}>
                    {label}
                    {on ? (down ? " ▾" : " ▴") : ""}
                  </RowAct>
                </th>
              </Fragment>
            );
          })}
        </tr>
      }
      row={(index, place) => {
        const a = row(index);
        if (!a)
          return (
            <tr key={index} {...place}>
              <td colSpan={columns} className="mut">
                …
              </td>
            </tr>
          );
        return (
          <tr key={a.path} {...place} onDoubleClick={() => onOpen(href(a))}>
            <td>
              <KindIcon kind={a.kind} tone={tone(a.recorded)} /> <span className="sec">{a.kind}</span>
            </td>
            <td className="path" title={a.path}>
              <Link className="row" to={href(a)}>
                <Path path={a.path} folder={folder} />
              </Link>
            </td>
            <td className="num">{a.version}</td>
            <td className="sec" title={a.summary}>
              {a.summary}
            </td>
            <td>{a.author}</td>
            <td title={a.recorded ?? ""}>{when(a.recorded)}</td>
            <td className="num sec">{size(a.size)}</td>
            {edited.size > 0 && (
              <td>{edited.has(a.path) ? <Edited state={edited.get(a.path) ?? ""} /> : <span className="mut">same</span>}</td>
            )}
            <td title={a.headline}>
              <Effect effect={a.effect} /> <span className="sec">{a.headline}</span>
            </td>
          </tr>
        );
      }}
    />
  );
}

function Path({ path, folder }: { path: string; folder: string }) {
  const [before, name] = shownPath(path, folder);
  return (
    <>
      {before && <span className="in">{before}</span>}
      {name}
    </>
  );
}

const ACTS: Record<string, string> = { new: "added", edited: "changed", moved: "moved", gone: "removed" };

function Edited({ state }: { state: string }) {
  return (
    <>
      <Mark action={ACTS[state] ?? "changed"} /> {state}
    </>
  );
}
