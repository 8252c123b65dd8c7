/** For a list that is a part of what it is in, not a second one over it. */
import type { PopperProps } from "@mui/material";
import type { ReactNode } from "react";

export function InPlace({ children }: PopperProps) {
  return <div className="inplace">{typeof children === "function" ? null : children}</div>;
}

/** Choices of one sort under their name, which a reader aloud hears once. */
export function GroupInPlace({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div role="group" aria-label={name}>
      <div className="cap" aria-hidden="true">
        {name}
      </div>
      {children}
    </div>
  );
}
