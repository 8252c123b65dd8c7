/** One of a few, chosen from a list that the browser and its system draw: as good with a thumb as with keys. */
import { TextField } from "@mui/material";
import { type ChangeEvent, type ReactNode, useId } from "react";

interface Props {
  id?: string;
  label?: ReactNode;
  "aria-label"?: string;
  value: string;
  onChange: (e: ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => void;
  disabled?: boolean;
  wide?: boolean;
  width?: number | string;
  className?: string;
  /** `<option>`s. */
  children: ReactNode;
}

export function Choice({ id, label, value, onChange, disabled, wide, width, className, children, ...rest }: Props) {
  const own = useId();
  return (
    <TextField
      select
      id={id ?? own}
      label={label}
      value={value}
      onChange={onChange}
      disabled={disabled}
      fullWidth={wide ?? (label !== undefined && width === undefined)}
      className={className}
      style={width === undefined ? undefined : { width }}
      slotProps={{ select: { native: true }, htmlInput: rest["aria-label"] === undefined ? {} : { "aria-label": rest["aria-label"] } }}
    >
      {children}
    </TextField>
  );
}
