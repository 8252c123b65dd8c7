/** A field to type into that offers what is known; another value can be typed. */
import { Autocomplete, TextField } from "@mui/material";
import { useId } from "react";

export interface Suggested {
  value: string;
  /** What it is, in a few words. */
  what: string;
}

interface Props {
  label: string;
  value: string;
  options: Suggested[];
  onChange: (value: string) => void;
  required?: boolean;
  placeholder?: string;
  hint?: string;
}

export function Suggest({ label, value, options, onChange, required, placeholder, hint }: Props) {
  const id = useId();
  return (
    <Autocomplete
      id={id}
      freeSolo
      fullWidth
      openOnFocus
      disableClearable
      options={options}
      getOptionLabel={(one) => (typeof one === "string" ? one : one.value)}
      renderOption={({ key: _, ...given }, one) => (
        <li {...given} key={one.value} className={`${given.className} suggested`}>
          <span className="mono">{one.value}</span>
          <span className="cap">{one.what}</span>
        </li>
      )}
      slotProps={{ popper: { disablePortal: true } }}
      inputValue={value}
      onInputChange={(_, text) => onChange(text)}
      renderInput={(given) => <TextField {...given} label={label} required={required} placeholder={placeholder} helperText={hint} />}
    />
  );
}
