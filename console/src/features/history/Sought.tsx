/** Which commits of a line are meant: by whom, when, what they touched. Each is a parameter of the page's address. */

import { useState } from "react";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";

export const FIELDS = ["words", "by", "since", "until", "path", "task", "kind", "effect"] as const;
export type Sought = Partial<Record<(typeof FIELDS)[number], string>>;
const LABELS: Record<string, string> = {
  words: "Words",
  by: "Author",
  since: "Since",
  until: "Until",
  path: "Artifact or folder",
  task: "Task",
  kind: "Kind",
  effect: "Effect",
};
const EFFECTS = ["breaks", "alters", "cosmetic"];
const KINDS = [
  "pipeline",
  "workflow",
  "app",
  "notebook",
  "tests",
  "api",
  "script",
  "settings",
  "report",
  "picture",
  "dataset",
  "database",
  "spreadsheet",
  "document",
  "archive",
  "model",
  "opaque",
];
const CHOICES: Record<string, string[]> = { kind: KINDS, effect: EFFECTS };

export function SoughtForm({ sought, onSeek }: { sought: Sought; onSeek: (sought: Sought) => void }) {
  const [draft, setDraft] = useState(sought);
  const [shown, setShown] = useState(sought);
  if (FIELDS.some((name) => shown[name] !== sought[name])) {
    // the address changed: by a link, or by going back
    setShown(sought);
    setDraft(sought);
  }
  const change = (name: string, value: string) => {
    const next = { ...draft, [name]: value };
    setDraft(next);
    if (name in CHOICES || name === "since" || name === "until") onSeek(next);
  };
  return (
    <form
      role="search"
      aria-label="Look among the commits"
      className="sought"
      onSubmit={(e) => {
        e.preventDefault();
        onSeek(draft);
      }}
    >
      {FIELDS.map((name) => (
        <div key={name}>
          {name in CHOICES ? (
            <Choice label={LABELS[name]} id={`sought-${name}`} value={draft[name] ?? ""} onChange={(e) => change(name, e.target.value)}>
              <option value="">any</option>
              {CHOICES[name]?.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </Choice>
          ) : (
            <Field
              label={LABELS[name]}
              id={`sought-${name}`}
              type={name === "since" || name === "until" ? "date" : "text"}
              value={draft[name] ?? ""}
              onChange={(e) => change(name, e.target.value)}
            />
          )}
        </div>
      ))}
      <TextAct type="submit">Look</TextAct>
      {FIELDS.some((name) => draft[name]) && (
        <TextAct
          onClick={() => {
            setDraft({});
            onSeek({});
          }}
        >
          Show all
        </TextAct>
      )}
    </form>
  );
}
