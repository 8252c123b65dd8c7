/** A question or a form over the page; Esc and a click beside it close it, and the focus goes back to where it was. */
import { Dialog } from "@mui/material";
import { type ReactNode, useEffect, useMemo, useRef, useState } from "react";

export interface SheetState {
  shown: boolean;
  show: () => void;
  hide: () => void;
}

export function useSheet(): SheetState {
  const [shown, setShown] = useState(false);
  return useMemo(() => ({ shown, show: () => setShown(true), hide: () => setShown(false) }), [shown]);
}

interface Props {
  of: SheetState;
  label: string;
  /** Called each time after it closed, however that came. */
  onClose?: () => void;
  wide?: boolean;
  children: ReactNode;
}

export function Sheet({ of, label, onClose, wide = false, children }: Props) {
  const was = useRef(false);
  useEffect(() => {
    if (was.current && !of.shown) onClose?.();
    was.current = of.shown;
  }, [of.shown, onClose]);
  return (
    <Dialog
      open={of.shown}
      onClose={of.hide}
      // A form that the question was asked from is not sent with it.
      onSubmit={(e) => e.stopPropagation()}
      maxWidth={wide ? "md" : "sm"}
      fullWidth
      slotProps={{ paper: { "aria-label": label, className: "sheetpaper" } }}
    >
      {children}
    </Dialog>
  );
}
