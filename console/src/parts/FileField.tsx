/** Files of this computer to choose: a button that opens the system's own chooser. */
import { Button } from "@mui/material";
import { type ReactNode, useRef } from "react";

interface Props {
  label: string;
  onFiles: (files: File[]) => void;
  accept?: string;
  multiple?: boolean;
  disabled?: boolean;
  /** What the button says instead of `label`, such as the name of what was chosen. */
  children?: ReactNode;
}

export function FileField({ label, onFiles, accept, multiple, disabled, children }: Props) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <Button variant="outlined" disabled={disabled} onClick={() => input.current?.click()}>
        {children ?? label}
      </Button>
      <input
        ref={input}
        className="sr"
        tabIndex={-1}
        type="file"
        aria-label={label}
        accept={accept}
        multiple={multiple}
        disabled={disabled}
        onChange={(e) => {
          onFiles([...(e.target.files ?? [])]);
          e.target.value = ""; // the same file can be chosen again
        }}
      />
    </>
  );
}
