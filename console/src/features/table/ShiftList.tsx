/** How far each column's values moved, the farthest first, against its limit. */
import { RowAct } from "../../parts/Acts";
import type { ComparedTable } from "./model";

const WIDTH = 90;

export function ShiftList({ table, chosen, onChoose }: { table: ComparedTable; chosen: string; onChoose: (column: string) => void }) {
  const shifts = table.profiles
    .flatMap((p) => (p.shift && !table.key.includes(p.column) ? [{ column: p.column, ...p.shift }] : []))
    .sort((a, b) => b.value - a.value);
  if (!shifts.length) return null;
  const measures = [...new Set(shifts.map((s) => s.measure))].join(", ");
  const most = Math.max(0.2, ...shifts.map((s) => Math.max(s.value, s.limit)));
  return (
    <section className="sheet" aria-label="Shift">
      <div className="ph">
        <h2 className="h3">Shift</h2>
        <span className="r cap">0 same, 1 nothing shared</span>
      </div>
      <div className="shifts">
        {shifts.map((s) => (
          <RowAct key={s.column} aria-pressed={s.column === chosen} onClick={() => onChoose(s.column === chosen ? "" : s.column)}>
            <span className="mono">{s.column}</span>
            <svg width={WIDTH} height="14" aria-hidden="true">
              <rect y="5" width={WIDTH} height="4" fill="var(--sunk)" />
              <rect y="3" width={Math.max(2, (s.value / most) * WIDTH)} height="8" fill={s.beyond ? "var(--tone-3)" : "var(--tone-2)"} />
              <path d={`M${(s.limit / most) * WIDTH} 0V14`} stroke="var(--ink)" strokeDasharray="2 2" />
            </svg>
            <span className="num">{s.value.toFixed(2)}</span>
            {s.beyond && <span className="cap over">over its limit {s.limit}</span>}
          </RowAct>
        ))}
      </div>
      <p className="cap pad">
        Dashed: the limit in <span className="mono">shelf.toml</span>, 0.1 if none is set. {measures}.
      </p>
    </section>
  );
}
