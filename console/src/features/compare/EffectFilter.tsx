import { Effect } from "../../marks/Mark";

const EFFECTS = ["breaks", "alters", "cosmetic"] as const;

export function EffectFilter({ effects, value, onChange }: { effects: Record<string, number>; value: string; onChange: (effect: string) => void }) {
  return (
    <span className="seg" role="group" aria-label="Effect">
      {EFFECTS.map((e) => (
        <button key={e} type="button" aria-pressed={value === e} onClick={() => onChange(value === e ? "" : e)}>
          <Effect effect={e} /> {effects[e] ?? 0}
        </button>
      ))}
    </span>
  );
}
