/** What can be clicked, beside the buttons of the component library: words, rows, and the parts of a switch. */
import { ButtonBase, ButtonGroup, Link, ToggleButton } from "@mui/material";
import type { ButtonHTMLAttributes, ReactNode, Ref } from "react";

type Native = ButtonHTMLAttributes<HTMLButtonElement> & { ref?: Ref<HTMLButtonElement> };

/** An act said in words within a text or a row. */
export function TextAct({ className, ...rest }: Native) {
  return <Link component="button" type="button" className={className ? `textact ${className}` : "textact"} {...rest} />;
}

/** A whole row, tile or name that acts when it is clicked; its look comes from where it is. */
export function RowAct({ ref, color: _, className, ...rest }: Native) {
  return <ButtonBase ref={ref} className={className ? `rowact ${className}` : "rowact"} {...rest} />;
}

/** A switch between a few views or filters, side by side. */
export function Switch({ label, className, children }: { label?: string; className?: string; children: ReactNode }) {
  return (
    <ButtonGroup className={className ? `seg ${className}` : "seg"} aria-label={label}>
      {children}
    </ButtonGroup>
  );
}

interface PartProps {
  /** Whether it is the one chosen; without it the part is a plain act, such as *larger*. */
  pressed?: boolean;
  onClick: () => void;
  disabled?: boolean;
  className?: string;
  title?: string;
  "aria-label"?: string;
  children: ReactNode;
}

/** One part of a switch. */
export function Part({ pressed, ...rest }: PartProps) {
  if (pressed === undefined) return <ButtonBase {...rest} />;
  return <ToggleButton value="" selected={pressed} {...rest} />;
}

interface WordSwitchProps<T extends string> {
  label: string;
  words: readonly T[];
  value: string;
  onChoose: (word: T) => void;
}

/** A switch between words, of which one is chosen. */
export function WordSwitch<T extends string>({ label, words, value, onChoose }: WordSwitchProps<T>) {
  return (
    <Switch label={label}>
      {words.map((word) => (
        <Part key={word} pressed={word === value} onClick={() => onChoose(word)}>
          {word}
        </Part>
      ))}
    </Switch>
  );
}
