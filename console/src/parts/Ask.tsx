/** A button for what cannot be taken back lightly: it says what follows, and does it when that is confirmed. */
import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { ProblemBox } from "../shell/states";
import { TextAct } from "./Acts";
import { Field } from "./Field";
import { Sheet, useSheet } from "./Sheet";

interface Props {
  /** On the button in the page. */
  label: string;
  "aria-label"?: string;
  /** Heads the question. */
  title: string;
  /** What follows from it. */
  does: ReactNode;
  /** On the button that does it; never "OK" or "Yes". */
  act: string;
  /** Asked for, where a reason is kept. */
  reason?: boolean;
  disabled?: boolean;
  onAct: (reason: string) => Promise<unknown>;
}

export function Ask({ label, title, does, act, reason = false, disabled, onAct, ...named }: Props) {
  const dialog = useSheet();
  const [why, setWhy] = useState("");
  const run = useMutation({ mutationFn: () => onAct(why), onSuccess: () => dialog.hide() });
  return (
    <>
      <TextAct
        aria-label={named["aria-label"]}
        disabled={disabled}
        onClick={() => {
          run.reset();
          setWhy("");
          dialog.show();
        }}
      >
        {label}
      </TextAct>
      <Sheet of={dialog} label={title}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            run.mutate();
          }}
        >
          <h2>{title}</h2>
          <p>{does}</p>
          {reason && <Field label="Reason" autoFocus required value={why} onChange={(e) => setWhy(e.target.value)} />}
          {run.isError && <ProblemBox error={run.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={run.isPending}>
              {act}
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
