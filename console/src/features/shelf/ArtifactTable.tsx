/** The dense list; long lists are drawn window by window. */
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { Link } from "react-router";
import type { Artifact } from "../../api/queries";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { size, tone, when } from "../../marks/words";
import { COLUMNS } from "./model";

interface Props {
  rows: Artifact[];
  sort: string;
  onSort: (sort: string) => void;
  href: (artifact: Artifact) => string;
  onOpen: (to: string) => void;
}

export function ArtifactTable({ rows, sort, onSort, href, onOpen }: Props) {
  const frame = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => frame.current, estimateSize: () => 28, overscan: 12 });
  const items = virtual.getVirtualItems();
  const above = items[0]?.start ?? 0;
  const below = virtual.getTotalSize() - (items.at(-1)?.end ?? 0);
  const walk = (event: React.KeyboardEvent) => {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step) return;
    event.preventDefault();
    const links = [...(frame.current?.querySelectorAll<HTMLAnchorElement>("a.row") ?? [])];
    const here = links.indexOf(document.activeElement as HTMLAnchorElement);
    links[Math.max(0, Math.min(links.length - 1, here + step))]?.focus();
  };
  return (
    <div className="sheet list" ref={frame} onKeyDown={walk} tabIndex={-1}>
      <table aria-rowcount={rows.length + 1}>
        <caption className="sr">Artifacts</caption>
        <thead>
          <tr>
            {COLUMNS.map(([id, label]) => {
              const on = sort.replace("-", "") === id;
              const down = sort.startsWith("-");
              return (
                <th key={id} scope="col" className={id === "size" || id === "version" ? "num" : ""} aria-sort={on ? (down ? "descending" : "ascending") : undefined}>
                  <button type="button" className="sort" onClick={() => onSort(on && !down ? `-${id}` : id)}>
                    {label}
                    {on ? (down ? " ▾" : " ▴") : ""}
                  </button>
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {above > 0 && <tr aria-hidden="true"><td colSpan={8} style={{ height: above, padding: 0, border: 0 }} /></tr>}
          {items.map((item) => {
            const a = rows[item.index];
            if (!a) return null;
            return (
              <tr key={a.path} aria-rowindex={item.index + 2} onDoubleClick={() => onOpen(href(a))}>
                <td><KindIcon kind={a.kind} tone={tone(a.recorded)} /> <span className="sec">{a.kind}</span></td>
                <td title={a.path}><Link className="row" to={href(a)}>{a.name}</Link></td>
                <td className="num">{a.version}</td>
                <td className="sec" title={a.summary}>{a.summary}</td>
                <td>{a.author}</td>
                <td title={a.recorded ?? ""}>{when(a.recorded)}</td>
                <td className="num sec">{size(a.size)}</td>
                <td title={a.headline}><Effect effect={a.effect} /> <span className="sec">{a.headline}</span></td>
              </tr>
            );
          })}
          {below > 0 && <tr aria-hidden="true"><td colSpan={8} style={{ height: below, padding: 0, border: 0 }} /></tr>}
        </tbody>
      </table>
    </div>
  );
}
