/** A small table by cell: arrows move, Enter edits and saves, Esc leaves the cell as it was. */

import { Table } from "@mui/material";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { count } from "../../marks/words";
import { Field } from "../../parts/Field";
import type { Change } from "./autosave";

const ROW = 28;

interface Props {
  table: Schemas["ArtifactCells"];
  onEdit: (change: Change) => void;
}

export function CellEditor({ table, onEdit }: Props) {
  const [rows, setRows] = useState(table.rows);
  const [changed, setChanged] = useState<Set<string>>(new Set());
  const [at, setAt] = useState({ row: 0, column: 0 });
  const [typed, setTyped] = useState<string | null>(null);
  const frame = useRef<HTMLDivElement>(null);
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => frame.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const input = useRef<HTMLInputElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    if (typed !== null) input.current?.focus();
  }, [typed !== null]);
  const move = (row: number, column: number) => {
    const next = {
      row: Math.max(0, Math.min(rows.length - 1, row)),
      column: Math.max(0, Math.min(table.columns.length - 1, column)),
    };
    setAt(next);
    list.scrollToIndex(next.row);
  };
  // Enter saves, and the field that goes away is left: whichever comes first saves, once.
  const open = useRef(false);
  open.current = typed !== null && open.current;
  const begin = (text: string) => {
    open.current = true;
    setTyped(text);
  };
  const save = () => {
    if (!open.current) return;
    open.current = false;
    const was = rows[at.row]?.[at.column] ?? "";
    if (typed !== null && typed !== was) {
      const row = [...(rows[at.row] ?? [])];
      row[at.column] = typed;
      setRows(rows.map((r, i) => (i === at.row ? row : r)));
      setChanged(new Set(changed).add(`${at.row} ${at.column}`));
      onEdit({ cells: [{ row: at.row, column: table.columns[at.column] ?? "", value: typed, was }] });
    }
    setTyped(null);
    frame.current?.focus();
  };
  const press = (event: React.KeyboardEvent) => {
    if (typed !== null) {
      if (event.key === "Enter") save();
      if (event.key === "Escape") {
        open.current = false;
        setTyped(null);
        frame.current?.focus();
      }
      if (event.key === "Enter" || event.key === "Escape") event.stopPropagation();
      return;
    }
    const steps: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
    };
    const step = steps[event.key];
    if (step) {
      event.preventDefault();
      move(at.row + step[0], at.column + step[1]);
    } else if (event.key === "Enter") {
      event.preventDefault();
      begin(rows[at.row]?.[at.column] ?? "");
    } else if (event.key.length === 1 && !event.ctrlKey && !event.metaKey && !event.altKey) {
      event.preventDefault();
      begin(event.key);
    }
  };
  const shown = list.getVirtualItems();
  const top = shown[0]?.start ?? 0;
  const below = list.getTotalSize() - (shown.at(-1)?.end ?? 0);
  return (
    <section className="sheet" aria-label="Cells">
      <div className="ph">
        <h2 className="h3">
          {count(rows.length, "row")}, {count(table.columns.length, "column")}
        </h2>
        <span className="cap">Arrow keys move, Enter edits, Esc cancels</span>
      </div>
      <div
        ref={frame}
        className="scroll grid cells"
        tabIndex={0}
        role="grid"
        aria-label="Cells of the table"
        aria-rowcount={rows.length}
        aria-activedescendant={`cell-${at.row}-${at.column}`}
        onKeyDown={press}
      >
        <Table role="presentation">
          <thead>
            <tr role="row">
              <th className="corner" role="columnheader">
                <span className="cap">row</span>
              </th>
              {table.columns.map((c) => (
                <th key={c} role="columnheader">
                  <span className="hd">
                    <span className="mono">{c}</span>
                  </span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {top > 0 && <tr style={{ height: top }} aria-hidden="true" />}
            {shown.map(({ index }) => (
              <tr key={index} role="row" aria-rowindex={index + 1}>
                <th className="corner" role="rowheader">
                  <span className="cap">{index + 1}</span>
                </th>
                {table.columns.map((c, column) => {
                  const here = at.row === index && at.column === column;
                  return (
                    // biome-ignore lint/a11y/useFocusableInteractive: a grid keeps the focus itself and says which cell is current (WAI-ARIA grid)
                    // biome-ignore lint/a11y/useKeyWithClickEvents: a grid keeps the focus itself and says which cell is current (WAI-ARIA grid)
                    <td
                      key={c}
                      id={`cell-${index}-${column}`}
                      role="gridcell"
                      aria-selected={here}
                      className={`${here ? "here" : ""} ${changed.has(`${index} ${column}`) ? "cell" : ""}`}
                      onClick={() => {
                        if (typed !== null) save();
                        setAt({ row: index, column });
                      }}
                      onDoubleClick={() => begin(rows[index]?.[column] ?? "")}
                    >
                      {here && typed !== null ? (
                        <Field
                          ref={input}
                          aria-label={`${c}, row ${index + 1}`}
                          value={typed}
                          onChange={(e) => setTyped(e.target.value)}
                          onBlur={save}
                        />
                      ) : (
                        (rows[index]?.[column] ?? "")
                      )}
                    </td>
                  );
                })}
              </tr>
            ))}
            {below > 0 && <tr style={{ height: below }} aria-hidden="true" />}
          </tbody>
        </Table>
      </div>
    </section>
  );
}
