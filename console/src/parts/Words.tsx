/** A field for several words, each a chip once Enter or a comma ends it; what is known already is offered. */
import { Autocomplete, TextField } from "@mui/material";
import { useId, useState } from "react";

interface Props {
  label: string;
  value: string[];
  options: string[];
  onChange: (words: string[]) => void;
  placeholder?: string;
  /** What is wrong with them, in words. */
  wrong?: string;
}

export function Words({ label, value, options, onChange, placeholder, wrong }: Props) {
  const id = useId();
  const [typed, setTyped] = useState("");
  const kept = (words: string[]) => onChange([...new Set(words.flatMap((one) => one.split(",")).map((one) => one.trim()))].filter(Boolean));
  return (
    <Autocomplete
      id={id}
      multiple
      freeSolo
      autoSelect
      fullWidth
      options={options}
      value={value}
      onChange={(_, words) => kept(words)}
      inputValue={typed}
      onInputChange={(_, text) => {
        const ended = text.endsWith(",");
        if (ended) kept([...value, text]);
        setTyped(ended ? "" : text);
      }}
      filterSelectedOptions
      renderInput={(given) => (
        <TextField {...given} label={label} placeholder={value.length ? "" : placeholder} error={!!wrong} helperText={wrong} />
      )}
    />
  );
}
