import { Effect } from "../../marks/Mark";

const EFFECTS = ["breaks", "alters", "cosmetic"] as const;

/** The filter's value for what could not be read as what it is. */
export const UNJUDGED = "unjudged";

interface Props {
  effects: Record<string, number>;
  /** How many could not be judged; told only where there are some. */
  unjudged: number;
  value: string;
  onChange: (effect: string) => void;
}

export function EffectFilter({ effects, unjudged, value, onChange }: Props) {
  return (
    <span className="seg" role="group" aria-label="Effect">
      {EFFECTS.map((e) => (
        <button key={e} type="button" aria-pressed={value === e} onClick={() => onChange(value === e ? "" : e)}>
          <Effect effect={e} /> {effects[e] ?? 0}
        </button>
      ))}
      {unjudged > 0 && (
        <button type="button" aria-pressed={value === UNJUDGED} onClick={() => onChange(value === UNJUDGED ? "" : UNJUDGED)}>
          <Effect effect={null} judged={false} /> {unjudged}
        </button>
      )}
    </span>
  );
}
