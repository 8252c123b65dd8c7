/** A column's values as bars: after filled, before as a dashed outline. */
import type { Profile } from "./model";

const WIDTH = 76;
const HEIGHT = 44;

export function Histogram({ profile, plain = false }: { profile: Profile; plain?: boolean }) {
  const { before, after } = profile;
  const shares = (bins: number[] | undefined) => {
    const total = (bins ?? []).reduce((a, b) => a + b, 0);
    return (bins ?? []).map((n) => (total ? n / total : 0));
  };
  const old = shares(before?.bins);
  const now = shares(after?.bins);
  const count = Math.max(old.length, now.length);
  if (!count) return <svg width={WIDTH} height={HEIGHT} aria-hidden="true" />;
  const most = Math.max(...old, ...now, 1e-9);
  const step = WIDTH / count;
  const level = (share: number) => HEIGHT - 1 - (share / most) * (HEIGHT - 4);
  const outline = old.map((share, i) => `${i ? "L" : "M"}${i * step} ${level(share)}H${(i + 1) * step}`).join("");
  const label = `${profile.column}: ${before && after ? "before and after" : after ? "after" : "before"}${profile.shift ? `, shift ${profile.shift.value.toFixed(2)}` : ""}`;
  const alone = !before && !plain;
  return (
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label={label}>
      {now.map((share, i) => (
        <rect
          key={i}
          x={i * step + 0.5}
          width={Math.max(step - 1, 0.5)}
          y={level(share)}
          height={HEIGHT - 1 - level(share)}
          fill={alone ? "var(--added-wash)" : "var(--tone-1)"}
          stroke={alone ? "var(--added)" : "none"}
          strokeDasharray={alone ? "2 1.5" : undefined}
        />
      ))}
      {old.length > 0 && (
        <path
          d={`M0 ${HEIGHT - 1}L0 ${level(old[0] ?? 0)}${outline.replace(/^M/, "L")}L${WIDTH} ${HEIGHT - 1}`}
          fill="none"
          stroke="var(--ink)"
          strokeDasharray="2.5 2"
          strokeWidth="1.1"
        />
      )}
      <path d={`M0 ${HEIGHT - 0.5}H${WIDTH}`} stroke="var(--line-strong)" />
    </svg>
  );
}
