/** A line, or several, to type into, with what it is for above it. */
import { TextField } from "@mui/material";
import { type ChangeEvent, type FocusEvent, type InputHTMLAttributes, type KeyboardEvent, type ReactNode, type Ref, useId } from "react";

type Native = InputHTMLAttributes<HTMLInputElement>;
type Box = HTMLInputElement | HTMLTextAreaElement;

export interface FieldProps {
  id?: string;
  /** Without one, `aria-label` says what it is for. */
  label?: ReactNode;
  "aria-label"?: string;
  type?: "text" | "password" | "number" | "date" | "time" | "search";
  value?: string | number;
  onChange?: (e: ChangeEvent<Box>) => void;
  onBlur?: (e: FocusEvent<Box>) => void;
  onFocus?: (e: FocusEvent<Box>) => void;
  onKeyDown?: (e: KeyboardEvent<HTMLDivElement>) => void;
  ref?: Ref<HTMLInputElement>;
  /** More than one: a field of so many lines. */
  rows?: number;
  mono?: boolean;
  /** As wide as what it is in; fields with a label are, unless said. */
  wide?: boolean;
  width?: number | string;
  className?: string;
  disabled?: boolean;
  autoFocus?: boolean;
  required?: boolean;
  readOnly?: boolean;
  placeholder?: string;
  title?: string;
  pattern?: string;
  list?: string;
  autoComplete?: string;
  spellCheck?: boolean;
  min?: Native["min"];
  max?: Native["max"];
  minLength?: number;
  maxLength?: number;
}

export function Field(props: FieldProps) {
  const {
    id,
    label,
    type,
    value,
    onChange,
    onBlur,
    onFocus,
    onKeyDown,
    ref,
    rows,
    mono,
    width,
    className,
    disabled,
    autoFocus,
    placeholder,
  } = props;
  const own = useId();
  const { required, readOnly, title, pattern, list, autoComplete, spellCheck, min, max, minLength, maxLength } = props;
  const native = {
    required,
    readOnly,
    title,
    pattern,
    list,
    spellCheck,
    min,
    max,
    minLength,
    maxLength,
    "aria-label": props["aria-label"],
  };
  const given = Object.fromEntries(Object.entries(native).filter(([, one]) => one !== undefined));
  return (
    <TextField
      id={id ?? own}
      label={label}
      type={type}
      value={value}
      onChange={onChange}
      onBlur={onBlur}
      onFocus={onFocus}
      onKeyDown={onKeyDown}
      inputRef={ref}
      multiline={rows !== undefined}
      rows={rows}
      fullWidth={props.wide ?? (label !== undefined && width === undefined)}
      className={[mono ? "mono" : "", className ?? ""].join(" ").trim() || undefined}
      style={width === undefined ? undefined : { width }}
      disabled={disabled}
      autoFocus={autoFocus}
      placeholder={placeholder}
      autoComplete={autoComplete}
      slotProps={{ htmlInput: given }}
    />
  );
}
