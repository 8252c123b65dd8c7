/** Which rows are shown: conditions that all hold, each added and taken away by itself. */
import { Button } from "@mui/material";
import { useState } from "react";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { condition, needsValue, TESTS, type Test } from "./conditions";

export function Conditions({ columns, held, onHeld }: { columns: string[]; held: string[]; onHeld: (held: string[]) => void }) {
  const [column, setColumn] = useState("");
  const [test, setTest] = useState<Test>("is");
  const [value, setValue] = useState("");
  const chosen = column || columns[0] || "";
  return (
    <form
      className="conditions"
      aria-label="Rows shown"
      onSubmit={(e) => {
        e.preventDefault();
        onHeld([...held.filter((one) => one !== condition(chosen, test, value)), condition(chosen, test, value)]);
        setValue("");
      }}
    >
      <Choice aria-label="Column of the condition" value={chosen} onChange={(e) => setColumn(e.target.value)}>
        {columns.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </Choice>
      <Choice aria-label="Test of the condition" value={test} onChange={(e) => setTest(e.target.value as Test)}>
        {TESTS.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </Choice>
      {needsValue(test) && (
        <Field aria-label="Value of the condition" width={130} required value={value} onChange={(e) => setValue(e.target.value)} />
      )}
      <Button type="submit" variant="outlined">
        Only such rows
      </Button>
      {held.map((one) => (
        <span key={one} className="held">
          <b className="mono">{one}</b>{" "}
          <TextAct aria-label={`remove the condition ${one}`} onClick={() => onHeld(held.filter((other) => other !== one))}>
            remove
          </TextAct>
        </span>
      ))}
    </form>
  );
}
