/** Fields of one part, each changed by itself: nothing else in the file moves. */

import { type ChangeEvent, useEffect, useRef, useState } from "react";
import type { Outline, Part } from "../../api/queries";
import { group } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import type { Change } from "./autosave";

const MOST = 1500;

function flat(parts: Part[], depth = 0, out: { part: Part; depth: number }[] = []) {
  for (const part of parts) {
    out.push({ part, depth });
    flat(part.parts, depth + 1, out);
  }
  return out;
}

interface Props {
  outline: Outline;
  /** False while a save is under way: it may give parts other addresses. */
  isSettled: boolean;
  onEdit: (change: Change) => void;
}

export function FieldEditor({ outline, isSettled, onEdit }: Props) {
  const [typed, setTyped] = useState("");
  const [chosen, choose] = useState(0); // by place: a part whose name is edited has another address with each letter
  const rows = flat(outline.parts).map((row, place) => ({ ...row, place }));
  const wanted = typed.toLowerCase();
  const shown = rows.filter(({ part }) => !wanted || `${part.type} ${part.label}`.toLowerCase().includes(wanted));
  const part = (rows[chosen] ?? rows[0])?.part;
  const fields = part ? part.fields : (outline.fields ?? {});
  return (
    <div className="cols2 fields">
      <section className="sheet" aria-label="Parts">
        <div className="ph">
          <h2 className="h3">Parts</h2>
          <span className="cap">{group(rows.length)}</span>
          <span className="r">
            <Field aria-label="Narrow the parts" placeholder="Type to narrow" value={typed} onChange={(e) => setTyped(e.target.value)} />
          </span>
        </div>
        <div className="tree">
          {shown.slice(0, MOST).map(({ part: p, depth, place }) => (
            <RowAct key={place} aria-current={p === part} style={{ paddingLeft: 12 + depth * 14 }} onClick={() => choose(place)}>
              <span className="ty">{p.type}</span>
              <span className="la">{p.label}</span>
            </RowAct>
          ))}
          {shown.length > MOST && <p className="cap pad">{group(shown.length - MOST)} more; type to narrow.</p>}
        </div>
      </section>
      <section className="sheet" aria-label="Fields">
        <div className="ph">
          <h2 className="h3">{part ? part.type : "The file"}</h2>
          <span className="cap mono">{part?.path}</span>
        </div>
        <div className="pad">
          <h2>{part?.label}</h2>
          {Object.keys(fields).length === 0 && <p className="mut">This part has no fields of its own; look at what it holds.</p>}
          {Object.entries(fields).map(([name, value]) => (
            <PartField
              key={`${chosen} ${name}`}
              name={name}
              value={value}
              isSettled={isSettled}
              onSave={(v) => onEdit({ parts: [{ part: part?.path ?? "", field: name, value: v }] })}
            />
          ))}
        </div>
      </section>
    </div>
  );
}

interface PartFieldProps {
  name: string;
  value: unknown;
  isSettled: boolean;
  onSave: (value: unknown) => void;
}

/** Saved while it is typed into, as a text is. */
function PartField({ name, value, isSettled, onSave }: PartFieldProps) {
  const text = value === null || value === undefined ? "" : String(value);
  const [typed, setTyped] = useState(text);
  const [was, setWas] = useState(text);
  const [given, setGiven] = useState(text);
  const [isLong] = useState(text.includes("\n") || text.length > 90); // as long as it is shown: the focus stays in it
  if (was !== text) {
    setWas(text);
    if (typed === was) setTyped(text); // what is being typed stays: this answers what was typed before
  }
  const isNumber = typeof value === "number";
  const isWrong = isNumber && (typed.trim() === "" || !Number.isFinite(Number(typed)));
  const save = useRef(onSave);
  save.current = onSave;
  useEffect(() => {
    if (!isSettled || isWrong || typed === given) return;
    setGiven(typed);
    save.current(isNumber ? Number(typed) : typed);
  }, [isSettled, isWrong, isNumber, typed, given]);
  if (typeof value === "boolean") {
    return (
      <CheckField checked={value} onChange={(e) => onSave(e.target.checked)} className="fieldrow check">
        {name}
      </CheckField>
    );
  }
  const common = {
    id: `field-${name}`,
    label: name,
    value: typed,
    onChange: (e: ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => setTyped(e.target.value),
  };
  return (
    <div className="fieldrow">
      {isLong ? (
        <Field {...common} mono rows={Math.min(18, text.split("\n").length + 2)} />
      ) : (
        <Field {...common} disabled={value === null} />
      )}
      {isWrong && <p role="alert">This field holds a number; what you typed is not saved.</p>}
    </div>
  );
}
