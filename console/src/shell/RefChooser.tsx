/** The ref chooser: branches, tags, a commit or a date; type to narrow. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import { branches, environments, tags } from "../api/queries";
import { usePending } from "../features/pending/pending";
import { when } from "../marks/words";

interface Props {
  shelf: string;
  value: string;
  label: string;
  onChoose: (ref: string) => void;
}

export function RefChooser({ shelf, value, label, onChoose }: Props) {
  const [open, setOpen] = useState(false);
  const box = useRef<HTMLSpanElement>(null);
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    const away = (event: MouseEvent) => {
      if (box.current && !box.current.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener("mousedown", away);
    return () => document.removeEventListener("mousedown", away);
  }, []);
  const choose = (ref: string) => {
    setOpen(false);
    button.current?.focus();
    if (ref) onChoose(ref);
  };
  return (
    <span ref={box} style={{ position: "relative" }} onKeyDown={(e) => e.key === "Escape" && choose("")}>
      <button
        ref={button}
        type="button"
        className="ref"
        aria-haspopup="dialog"
        aria-expanded={open}
        aria-label={`${label}: ${value} ▾`}
        onClick={() => setOpen(!open)}
      >
        {value}
        <span className="dn" aria-hidden="true">
          ▾
        </span>
      </button>
      {open && <RefMenu shelf={shelf} onChoose={choose} />}
    </span>
  );
}

function RefMenu({ shelf, onChoose }: { shelf: string; onChoose: (ref: string) => void }) {
  const [typed, setTyped] = useState("");
  const id = useId();
  const lines = useQuery(branches(shelf));
  const marks = useQuery(tags(shelf));
  const places = useQuery(environments(shelf));
  const { drafts } = usePending(shelf);
  const rows = [
    ...drafts.map((d) => ({ ref: `draft:${d.branch}`, group: "Your drafts", note: `${d.entries.length} pending` })),
    ...(lines.data ?? []).map((b) => ({ ref: b.name, group: "Branches", note: b.summary })),
    ...(marks.data ?? []).map((t) => ({ ref: `tag:${t.name}`, group: "Tags", note: when(t.created) })),
    ...(places.data ?? [])
      .filter((e) => e.current)
      .map((e) => ({ ref: `env:${e.name}`, group: "Environments", note: `tag:${e.current?.tag}` })),
  ].filter((row) => row.ref.toLowerCase().includes(typed.toLowerCase()));
  const loading = lines.isPending || marks.isPending || places.isPending;
  const custom = /^(commit:[0-9a-f]{8,}|at:.+)$/.test(typed) ? typed : /^\d{4}-\d\d-\d\d/.test(typed) ? `at:${typed}` : "";
  const first = custom || rows[0]?.ref || "";
  // Enter before the refs have arrived: chosen once they are there.
  const [entered, setEntered] = useState(false);
  useEffect(() => {
    if (!entered || loading) return;
    setEntered(false);
    if (first) onChoose(first);
  }, [entered, loading, first, onChoose]);
  const enter = (event: React.KeyboardEvent) => {
    if (event.key !== "Enter") return;
    event.preventDefault(); // else it would press the button that gets the focus
    setEntered(true);
  };
  return (
    <div className="menu" role="dialog" aria-label="Choose a ref" style={{ top: 32, left: 0 }}>
      <input
        id={id}
        className="inp"
        autoFocus
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          setEntered(false);
        }}
        placeholder="Name, commit:ID or 2026-03-14"
        aria-label="Narrow the refs"
        onKeyDown={enter}
      />
      {custom && (
        <button type="button" className="it" onClick={() => onChoose(custom)}>
          <b>{custom}</b>
        </button>
      )}
      <div className="anyday">
        <label className="cap" htmlFor={`${id}-day`}>
          As it was at the end of
        </label>
        <input
          id={`${id}-day`}
          className="inp"
          type="date"
          max={new Date().toISOString().slice(0, 10)}
          onChange={(e) => e.target.value && onChoose(`at:${e.target.value}`)}
        />
      </div>
      {["Your drafts", "Branches", "Tags", "Environments"].map((group) => {
        const found = rows.filter((row) => row.group === group);
        return found.length === 0 ? null : (
          <div key={group}>
            <div className="cap">{group}</div>
            {found.map((row) => (
              <button type="button" key={row.ref} className="it" onClick={() => onChoose(row.ref)}>
                <b>{row.ref}</b>
                <span className="mut" style={{ marginLeft: "auto" }}>
                  {row.note.slice(0, 40)}
                </span>
              </button>
            ))}
          </div>
        );
      })}
    </div>
  );
}

export function isReadOnly(ref: string): boolean {
  return /^(tag|commit|at|env|version|draft):/.test(ref);
}
