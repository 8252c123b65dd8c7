/** Copies a text, and says on itself that it did, or that it could not. */
import { Button, type ButtonProps } from "@mui/material";
import { useState } from "react";
import { TextAct } from "./Acts";

const FAILED = "Not copied: select it";

/** Whether the text was copied. Pages that are not read over https have no clipboard, so the older way follows. */
async function copyText(text: string): Promise<boolean> {
  try {
    await navigator.clipboard.writeText(text);
    return true;
  } catch {
    return copySelected(text);
  }
}

function copySelected(text: string): boolean {
  const before = document.activeElement;
  const area = document.createElement("textarea");
  area.value = text;
  area.style.cssText = "position: fixed; opacity: 0";
  // Beside an open dialog nothing can be selected.
  (before?.closest("dialog") ?? document.body).append(area);
  area.select();
  const done = document.execCommand("copy");
  area.remove();
  if (before instanceof HTMLElement) before.focus();
  return done;
}

function useCopying(text: string) {
  const [copied, setCopied] = useState<{ text: string; done: boolean }>();
  const copy = () => void copyText(text).then((done) => setCopied({ text, done }));
  return { copy, done: copied?.text === text ? copied.done : undefined };
}

export function CopyAct({ text, label, children }: { text: string; label: string; children: string }) {
  const { copy, done } = useCopying(text);
  const says = done === undefined ? children : done ? "Copied" : FAILED;
  return (
    <TextAct aria-label={`${says} ${label}`} title={text} onClick={copy}>
      {says}
    </TextAct>
  );
}

export function CopyButton({ text, children, ...others }: { text: string; children: string } & ButtonProps) {
  const { copy, done } = useCopying(text);
  return (
    <Button {...others} onClick={copy}>
      {done === undefined ? children : done ? "Copied" : FAILED}
    </Button>
  );
}
