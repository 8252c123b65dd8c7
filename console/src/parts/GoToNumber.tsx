/** A field for the number of a row or line to go to, from 1. */
import { useState } from "react";
import { Field } from "./Field";

interface Props {
  label: string;
  most: number;
  onGo: (number: number) => void;
}

export function GoToNumber({ label, most, onGo }: Props) {
  const [typed, setTyped] = useState("");
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        if (Number(typed) >= 1) onGo(Number(typed));
      }}
    >
      <Field
        label={label}
        type="number"
        min={1}
        max={Math.max(1, most)}
        width={190}
        value={typed}
        onChange={(e) => setTyped(e.target.value)}
      />
    </form>
  );
}
