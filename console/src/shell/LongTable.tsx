/** A table in a frame of its own, of which only the rows in sight are drawn, however many there are. */
import { Table } from "@mui/material";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useRef } from "react";

/** What each row's `<tr>` is given: its place for those who do not see, and what measures it. */
export interface RowPlace {
  "aria-rowindex": number;
  "data-index": number;
  ref: (row: HTMLTableRowElement | null) => void;
}

interface Props {
  caption: string;
  head: ReactNode;
  columns: number;
  count: number;
  row: (index: number, place: RowPlace) => ReactNode;
  className?: string;
  maxHeight?: string;
  /** What stands below the table in the same frame. */
  children?: ReactNode;
  onKeyDown?: (event: React.KeyboardEvent<HTMLDivElement>) => void;
  /** Told of the first and the last row in sight. */
  onRange?: (first: number, last: number) => void;
}

export function LongTable({ caption, head, columns, count, row, className = "scroll", maxHeight, children, onKeyDown, onRange }: Props) {
  const frame = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer<HTMLDivElement, HTMLTableRowElement>({
    count,
    getScrollElement: () => frame.current,
    estimateSize: () => 28,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const [from, to] = [items[0]?.index ?? 0, items.at(-1)?.index ?? 0];
  useEffect(() => onRange?.(from, to), [from, to, onRange]);
  const above = items[0]?.start ?? 0;
  const below = virtual.getTotalSize() - (items.at(-1)?.end ?? 0);
  return (
    <div
      className={`${className} long`}
      ref={frame}
      style={maxHeight ? { maxHeight, overflow: "auto" } : undefined}
      tabIndex={onKeyDown ? -1 : 0}
      role="region"
      aria-label={caption}
      onKeyDown={onKeyDown}
    >
      <Table aria-rowcount={count + 1}>
        <caption className="sr">{caption}</caption>
        <thead>{head}</thead>
        <tbody>
          {above > 0 && (
            <tr aria-hidden="true">
              <td colSpan={columns} style={{ height: above, padding: 0, border: 0 }} />
            </tr>
          )}
          {items.map((item) => row(item.index, { "aria-rowindex": item.index + 2, "data-index": item.index, ref: virtual.measureElement }))}
          {below > 0 && (
            <tr aria-hidden="true">
              <td colSpan={columns} style={{ height: below, padding: 0, border: 0 }} />
            </tr>
          )}
        </tbody>
      </Table>
      {children}
    </div>
  );
}
