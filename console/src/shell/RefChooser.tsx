/** The ref chooser: branches, tags, a commit or a date; type to narrow. */

import { Autocomplete, Popover, TextField } from "@mui/material";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import { branches, environments, tags } from "../api/queries";
import { usePending } from "../features/pending/pending";
import { when } from "../marks/words";
import { RowAct } from "../parts/Acts";
import { Field } from "../parts/Field";
import { GroupInPlace, InPlace } from "../parts/InPlace";
import { narrowed, type RefRow } from "./refs";

export { isReadOnly } from "./refs";

interface Props {
  shelf: string;
  value: string;
  label: string;
  onChoose: (ref: string) => void;
}

export function RefChooser({ shelf, value, label, onChoose }: Props) {
  const [open, setOpen] = useState(false);
  const button = useRef<HTMLButtonElement>(null);
  const choose = (ref: string) => {
    setOpen(false);
    if (ref) onChoose(ref);
  };
  return (
    <>
      <RowAct
        ref={button}
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
      </RowAct>
      <Popover
        open={open}
        anchorEl={() => button.current}
        onClose={() => setOpen(false)}
        anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
        slotProps={{ paper: { className: "refmenu", role: "dialog", "aria-label": "Choose a ref" } }}
      >
        <RefList shelf={shelf} onChoose={choose} />
      </Popover>
    </>
  );
}

/** The first branches, or where there are more those that the service finds by the words. */
function useBranches(shelf: string, words: string) {
  const first = useInfiniteQuery(branches(shelf));
  const sought = useInfiniteQuery({ ...branches(shelf, words), enabled: first.hasNextPage && words !== "" });
  const shown = first.hasNextPage && words ? sought : first;
  return { rows: shown.data?.pages[0]?.items ?? [], loading: shown.isPending };
}

/** As `useBranches`. */
function useTags(shelf: string, words: string) {
  const first = useInfiniteQuery(tags(shelf));
  const sought = useInfiniteQuery({ ...tags(shelf, words), enabled: first.hasNextPage && words !== "" });
  const shown = first.hasNextPage && words ? sought : first;
  return { rows: shown.data?.pages[0]?.items ?? [], loading: shown.isPending };
}

function RefList({ shelf, onChoose }: { shelf: string; onChoose: (ref: string) => void }) {
  const [typed, setTyped] = useState("");
  const id = useId();
  const lines = useBranches(shelf, typed.trim());
  const marks = useTags(shelf, typed.trim().replace(/^tag:/, ""));
  const places = useQuery(environments(shelf));
  const { drafts } = usePending(shelf);
  const rows: RefRow[] = [
    ...drafts.map((d) => ({ ref: `draft:${d.branch}`, group: "Your drafts", note: `${d.entries.length} pending` })),
    ...lines.rows.map((b) => ({ ref: b.name, group: "Branches", note: b.summary })),
    ...marks.rows.map((t) => ({ ref: `tag:${t.name}`, group: "Tags", note: when(t.created) })),
    ...(places.data ?? [])
      .filter((e) => e.current)
      .map((e) => ({ ref: `env:${e.name}`, group: "Environments", note: `tag:${e.current?.tag}` })),
  ];
  const loading = lines.loading || marks.loading || places.isPending;
  const first = narrowed(rows, typed)[0]?.ref ?? "";
  // Enter before the refs have arrived: chosen once they are there.
  const [entered, setEntered] = useState(false);
  useEffect(() => {
    if (!entered || loading) return;
    setEntered(false);
    if (first) onChoose(first);
  }, [entered, loading, first, onChoose]);
  return (
    <>
      <Autocomplete
        id={id}
        open
        autoHighlight
        forcePopupIcon={false}
        options={rows}
        value={null}
        inputValue={typed}
        onInputChange={(_, words, reason) => {
          if (reason !== "input") return;
          setTyped(words);
          setEntered(false);
        }}
        onChange={(_, row) => row && onChoose(row.ref)}
        filterOptions={(all, { inputValue }) => narrowed(all, inputValue)}
        getOptionLabel={(row) => row.ref}
        isOptionEqualToValue={(row, other) => row.ref === other.ref}
        groupBy={(row) => row.group}
        loading={loading}
        loadingText="Reading the refs …"
        noOptionsText="No branch, tag or environment has these words in its name."
        slots={{ popper: InPlace }}
        renderGroup={({ key, group, children }) => (
          <GroupInPlace key={key} name={group}>
            {children}
          </GroupInPlace>
        )}
        renderOption={({ key, ...rest }, row) => (
          <li key={key} {...rest}>
            <b>{row.ref}</b>
            <span className="mut">{row.note.slice(0, 40)}</span>
          </li>
        )}
        renderInput={(given) => (
          <TextField
            {...given}
            autoFocus
            placeholder="Name, commit:ID or 2026-03-14"
            slotProps={{ ...given.slotProps, htmlInput: { ...given.slotProps.htmlInput, "aria-label": "Narrow the refs" } }}
            onKeyDown={(event) => {
              if (event.key === "Enter" && loading) setEntered(true);
            }}
          />
        )}
      />
      <div className="anyday">
        <Field
          id={`${id}-day`}
          label="As it was at the end of"
          type="date"
          max={new Date().toISOString().slice(0, 10)}
          onChange={(e) => e.target.value && onChoose(`at:${e.target.value}`)}
        />
      </div>
    </>
  );
}
