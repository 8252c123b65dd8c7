/** Yes or no, and one of several that are all in sight. */
import { Checkbox, FormControlLabel, Radio } from "@mui/material";
import type { ChangeEvent, MouseEvent, ReactNode } from "react";

interface Props {
  checked: boolean;
  onChange: (e: ChangeEvent<HTMLInputElement>) => void;
  onClick?: (e: MouseEvent) => void;
  disabled?: boolean;
  /** What it is for, where it has no words beside it. */
  "aria-label"?: string;
  className?: string;
  children?: ReactNode;
}

export function CheckField({ checked, onChange, onClick, disabled, className, children, ...rest }: Props) {
  const name = rest["aria-label"];
  const box = (
    <Checkbox
      checked={checked}
      onChange={onChange}
      onClick={onClick}
      disabled={disabled}
      slotProps={{ input: name === undefined ? {} : { "aria-label": name } }}
    />
  );
  if (children === undefined) return box;
  return <FormControlLabel className={className} control={box} label={<span>{children}</span>} disabled={disabled} />;
}

export function OneOfAll({
  name,
  checked,
  onChange,
  children,
}: {
  name: string;
  checked: boolean;
  onChange: () => void;
  children: ReactNode;
}) {
  return <FormControlLabel control={<Radio name={name} checked={checked} onChange={onChange} />} label={<span>{children}</span>} />;
}
