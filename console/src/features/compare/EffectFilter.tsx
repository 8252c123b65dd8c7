import { Effect } from "../../marks/Mark";
import { Part, Switch } from "../../parts/Acts";

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
    <Switch label="Effect">
      {EFFECTS.map((e) => (
        <Part key={e} pressed={value === e} onClick={() => onChange(value === e ? "" : e)}>
          <Effect effect={e} /> {effects[e] ?? 0}
        </Part>
      ))}
      {unjudged > 0 && (
        <Part pressed={value === UNJUDGED} onClick={() => onChange(value === UNJUDGED ? "" : UNJUDGED)}>
          <Effect effect={null} judged={false} /> {unjudged}
        </Part>
      )}
    </Switch>
  );
}
