/** A table's rows before and after as bars, and the first changed cells in place. */
import type { TableCounts } from "../../api/queries";
import { group } from "../../marks/words";

export function Rows({ table }: { table: TableCounts }) {
  const { rows } = table;
  const most = Math.max(rows.before, rows.after, 1);
  const bar = (n: number, name: string, fill: string) => (
    <tr key={name}>
      <th scope="row">{name}</th>
      <td className="num">{group(n)}</td>
      <td style={{ width: "55%" }}><svg width="100%" height="12" aria-hidden="true"><rect width={`${(100 * n) / most}%`} height="12" fill={fill} stroke="var(--line-strong)" /></svg></td>
    </tr>
  );
  return (
    <section className="sheet" style={{ marginTop: 10 }} aria-label="Rows">
      <div className="ph"><h3>Rows</h3><span className="cap">{table.key.length ? `matched by ${table.key.join(", ")}` : "matched without a key"}</span></div>
      <table>
        <tbody>
          {bar(rows.before, "before", "none")}
          {bar(rows.after, "after", "var(--sunk)")}
          {bar(rows.changed, "changed", "var(--changed)")}
          {bar(rows.added, "added", "var(--added)")}
          {bar(rows.removed, "removed", "var(--removed)")}
        </tbody>
      </table>
      {table.samples.length > 0 && (
        <div className="scroll" style={{ maxHeight: 260 }} tabIndex={0} role="region" aria-label="Changed cells">
          <table>
            <thead><tr><th>{table.key.join(", ")}</th><th>Column</th><th>Before</th><th>After</th></tr></thead>
            <tbody>
              {table.samples.map((s, i) => (
                <tr key={i}><td>{s.key.join(", ")}</td><td className="mono">{s.column}</td><td><del>{s.before || "empty"}</del></td><td><ins>{s.after || "empty"}</ins></td></tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
