/** Which commits of a line are meant: by whom, when, what they touched. Each is a parameter of the page's address. */
import { useState } from "react";

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
          <label className="cap" htmlFor={`sought-${name}`}>
            {LABELS[name]}
          </label>
          {name in CHOICES ? (
            <select id={`sought-${name}`} className="inp" value={draft[name] ?? ""} onChange={(e) => change(name, e.target.value)}>
              <option value="">any</option>
              {CHOICES[name]?.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          ) : (
            <input
              id={`sought-${name}`}
              className="inp"
              type={name === "since" || name === "until" ? "date" : "text"}
              value={draft[name] ?? ""}
              onChange={(e) => change(name, e.target.value)}
            />
          )}
        </div>
      ))}
      <button type="submit" className="plainbtn">
        Look
      </button>
      {FIELDS.some((name) => draft[name]) && (
        <button
          type="button"
          className="plainbtn"
          onClick={() => {
            setDraft({});
            onSeek({});
          }}
        >
          Show all
        </button>
      )}
    </form>
  );
}
