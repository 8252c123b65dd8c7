/** Copies a text, and says so on itself. */
import { useState } from "react";
import { TextAct } from "./Acts";

export function CopyAct({ text, label, children }: { text: string; label: string; children: string }) {
  const [copied, setCopied] = useState("");
  const does = copied === text ? "Copied" : children;
  return (
    <TextAct
      aria-label={copied === text ? `Copied ${label}` : `${children} ${label}`}
      title={text}
      onClick={() => void navigator.clipboard?.writeText(text).then(() => setCopied(text))}
    >
      {does}
    </TextAct>
  );
}
