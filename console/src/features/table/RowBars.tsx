/** Rows before and after as two bars that share what stayed: same, changed, removed, added. */
import { group } from "../../marks/words";
import type { ComparedTable } from "./model";

const SAME = 150;
const REST = 170;

export function RowBars({ table }: { table: ComparedTable }) {
  const { added, removed, changed, before, after } = table.rows;
  const same = Math.max(0, after - added - changed);
  const most = Math.max(changed + Math.max(added, removed), 1);
  const wide = (n: number) => (n ? Math.max(4, (n / most) * REST) : 0);
  const start = 104;
  const at = start + (same ? SAME : 0);
  const end = at + wide(changed);
  const words = (x: number, y: number, text: string) => (
    <text x={x} y={y} fontSize="12" fill="var(--ink-2)">
      {text}
    </text>
  );
  return (
    <svg
      className="rowbars"
      width="520"
      height="48"
      role="img"
      aria-label={`${group(before)} rows before, ${group(after)} after: ${group(same)} same, ${group(changed)} changed, ${group(removed)} removed, ${group(added)} added`}
    >
      <defs>
        <pattern id="row-changed" width="6" height="6" patternUnits="userSpaceOnUse">
          <rect width="6" height="6" fill="var(--changed-wash)" />
          <path d="M0 6L6 0" stroke="var(--changed)" strokeWidth=".7" />
        </pattern>
        <pattern id="row-added" width="5" height="5" patternUnits="userSpaceOnUse">
          <rect width="5" height="5" fill="var(--added-wash)" />
          <circle cx="2" cy="2" r=".9" fill="var(--added)" />
        </pattern>
      </defs>
      {[
        ["Before", before, 4],
        ["After", after, 27],
      ].map(([name, n, y]) => (
        <g key={name}>
          {words(0, Number(y) + 12, String(name))}
          <text x="98" y={Number(y) + 12} fontSize="12.5" fontWeight="600" textAnchor="end" fill="var(--ink)">
            {group(Number(n))}
          </text>
          {same > 0 && <rect x={start} y={Number(y)} width={SAME} height="15" fill="var(--sunk)" stroke="var(--line-strong)" />}
          {changed > 0 && <rect x={at} y={Number(y)} width={wide(changed)} height="15" fill="url(#row-changed)" stroke="var(--changed)" />}
        </g>
      ))}
      {same > 0 && <path d={`M${start + 84} 2l-4 6h8l-4 6M${start + 84} 25l-4 6h8l-4 6`} fill="none" stroke="var(--line-strong)" />}
      {removed > 0 && (
        <rect x={end} y="4" width={wide(removed)} height="15" fill="var(--removed-wash)" stroke="var(--removed)" strokeDasharray="3 2" />
      )}
      {added > 0 && <rect x={end} y="27" width={wide(added)} height="15" fill="url(#row-added)" stroke="var(--added)" />}
      {words(end + wide(removed) + 6, 16, removed ? `${group(removed)} removed` : "")}
      {words(
        end + wide(added) + 6,
        39,
        [added ? `${group(added)} added` : "", changed ? `${group(changed)} changed` : "", `${group(same)} same`]
          .filter(Boolean)
          .join(", "),
      )}
    </svg>
  );
}
