/** Two texts side by side, line by line, with the words that differ marked. */
import { useMemo } from "react";
import { type Line, sideBySide } from "./model";
import { Worded } from "./Worded";

const MOST = 4000;

export function Lines({ before, after, label }: { before: string; after: string; label: string }) {
  const rows = useMemo(() => sideBySide(before, after), [before, after]);
  return (
    <div className="side" tabIndex={0} role="region" aria-label={label}>
      {rows.slice(0, MOST).map((r, i) => [
        <div
          key={`l${i}`}
          data-n={r.leftNumber ?? ""}
          className={r.kind === "old" || r.kind === "changed" ? "o" : r.kind === "gap" || r.left === null ? "gap" : ""}
        >
          {r.kind === "gap" ? <i className="w">{r.left}</i> : <Side row={r} side="before" />}
        </div>,
        <div
          key={`r${i}`}
          data-n={r.rightNumber ?? ""}
          className={r.kind === "new" || r.kind === "changed" ? "n" : r.kind === "gap" || r.right === null ? "gap" : ""}
        >
          <Side row={r} side="after" />
        </div>,
      ])}
    </div>
  );
}

function Side({ row, side }: { row: Line; side: "before" | "after" }) {
  const text = side === "before" ? row.left : row.right;
  if (row.kind !== "changed" || !text) return <>{text}</>;
  return <Worded before={row.left} after={row.right} side={side} />;
}
