/** Fields of one part, each changed by itself: nothing else in the file moves. */

import { useState } from "react";
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
  chosen: string;
  onChoose: (part: string) => void;
  onEdit: (change: Change) => void;
}

export function FieldEditor({ outline, chosen, onChoose, onEdit }: Props) {
  const [typed, setTyped] = useState("");
  const rows = flat(outline.parts);
  const wanted = typed.toLowerCase();
  const shown = rows.filter(({ part }) => !wanted || `${part.type} ${part.label}`.toLowerCase().includes(wanted));
  const part = rows.find((r) => r.part.path === chosen)?.part ?? rows[0]?.part;
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
          {shown.slice(0, MOST).map(({ part: p, depth }) => (
            <RowAct key={p.path} aria-current={p === part} style={{ paddingLeft: 12 + depth * 14 }} onClick={() => onChoose(p.path)}>
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
              key={`${part?.path} ${name}`}
              name={name}
              value={value}
              onSave={(v) => onEdit({ parts: [{ part: part?.path ?? "", field: name, value: v }] })}
            />
          ))}
        </div>
      </section>
    </div>
  );
}

function PartField({ name, value, onSave }: { name: string; value: unknown; onSave: (value: unknown) => void }) {
  const text = value === null || value === undefined ? "" : String(value);
  const [typed, setTyped] = useState(text);
  const [was, setWas] = useState(text);
  if (was !== text) {
    setWas(text);
    setTyped(text);
  }
  const id = `field-${name}`;
  const save = () =>
    typed !== text && onSave(typeof value === "number" && typed.trim() !== "" && Number.isFinite(Number(typed)) ? Number(typed) : typed);
  if (typeof value === "boolean") {
    return (
      <CheckField checked={value} onChange={(e) => onSave(e.target.checked)} className="fieldrow check">
        {name}
      </CheckField>
    );
  }
  const long = text.includes("\n") || text.length > 90;
  return (
    <div className="fieldrow">
      {long ? (
        <Field
          id={id}
          label={name}
          mono
          rows={Math.min(18, text.split("\n").length + 2)}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          onBlur={save}
        />
      ) : (
        <Field
          id={id}
          label={name}
          value={typed}
          disabled={value === null}
          onChange={(e) => setTyped(e.target.value)}
          onBlur={save}
          onKeyDown={(e) => e.key === "Enter" && save()}
        />
      )}
    </div>
  );
}
