/** A key opens a list of every page, act and artifact, narrowed by typing. */
import { Autocomplete, TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { artifactPage, shelf as ofShelf } from "../api/queries";
import { type SavedView, savedViews } from "../features/views/queries";
import { TextAct } from "../parts/Acts";
import { GroupInPlace, InPlace } from "../parts/InPlace";
import { Sheet, useSheet } from "../parts/Sheet";
import { type Destination, matching, pagesOf } from "./destinations";
import { KeyList } from "./KeyList";
import { useKey } from "./ownKeys";

const MOST_ARTIFACTS = 8;

type Row = Destination & { act?: HTMLElement };

export default function GoTo() {
  const sheet = useSheet();
  const { pathname } = useLocation();
  const [acts, setActs] = useState<Row[]>([]);
  const shelf = /^\/s\/([^/]+)/.exec(pathname)?.[1];
  const { show } = sheet;
  const open = useCallback(() => {
    setActs(actsOfThePage());
    show();
  }, [show]);
  useKey("go", open);
  return (
    <Sheet of={sheet} label="Go to a page, act or artifact">
      {sheet.shown && <Narrowing shelf={shelf} acts={acts} onDone={sheet.hide} />}
    </Sheet>
  );
}

/** What can be clicked in the middle of the page, by its name. */
function actsOfThePage(): Row[] {
  const buttons = [...document.querySelectorAll<HTMLButtonElement>("main button.MuiButton-root:not([disabled])")];
  const named = buttons.map((act) => ({
    group: "On this page",
    name: act.getAttribute("aria-label") ?? act.textContent?.trim() ?? "",
    act,
  }));
  return named.filter((one, n) => one.name !== "" && named.findIndex((other) => other.name === one.name) === n);
}

/** Names are one person's own: those of others are told apart by whose they are. */
function viewName(view: SavedView): string {
  return view.own ? view.name : `${view.name}, by ${view.person}`;
}

function Narrowing({ shelf, acts, onDone }: { shelf: string | undefined; acts: Row[]; onDone: () => void }) {
  const go = useNavigate();
  const [typed, setTyped] = useState("");
  const words = typed.trim();
  const listed = { words, kind: "", by: "", effect: "", folder: "", sort: "path" };
  const main = useQuery({ ...ofShelf(shelf ?? ""), enabled: Boolean(shelf) }).data?.main_branch;
  const found = useQuery({ ...artifactPage(shelf ?? "", main ?? "main", listed, 0), enabled: Boolean(shelf && words && main) });
  const artifacts = words
    ? (found.data?.items ?? []).slice(0, MOST_ARTIFACTS).map((one): Row => {
        const to = `/s/${shelf}/artifact?${new URLSearchParams({ path: one.path })}`;
        return { group: "Artifacts", name: one.path, to };
      })
    : [];
  const saved = useQuery({ ...savedViews(shelf ?? ""), enabled: Boolean(shelf) });
  const views = (saved.data ?? []).map((one): Row => ({ group: "Saved views", name: viewName(one), to: `/s/${shelf}${one.address}` }));
  const rows: Row[] = [...matching([...acts, ...views, ...pagesOf(shelf)], words), ...artifacts];
  const chosen = useRef<HTMLElement | null>(null);
  useEffect(() => () => chosen.current?.click(), []);
  const choose = (row: Row) => {
    if (row.act) chosen.current = row.act; // clicked once the list is gone: an act may open a dialog of its own
    onDone();
    if (row.to) void go(row.to);
  };
  return (
    <div className="goto">
      <Autocomplete
        open
        autoHighlight
        forcePopupIcon={false}
        options={rows}
        value={null}
        inputValue={typed}
        onInputChange={(_, now, reason) => reason === "input" && setTyped(now)}
        onChange={(_, row) => row && choose(row)}
        onClose={(_, reason) => reason === "escape" && onDone()}
        filterOptions={(all) => all}
        getOptionLabel={(row) => row.name}
        getOptionKey={(row) => `${row.group} ${row.name}`}
        isOptionEqualToValue={(row, other) => row.name === other.name && row.group === other.group}
        groupBy={(row) => row.group}
        noOptionsText="No page, act or artifact has these words in its name."
        slots={{ popper: InPlace }}
        renderGroup={({ key, group, children }) => (
          <GroupInPlace key={key} name={group}>
            {children}
          </GroupInPlace>
        )}
        renderInput={(given) => (
          <TextField
            {...given}
            autoFocus
            placeholder="Page, act or artifact"
            slotProps={{ ...given.slotProps, htmlInput: { ...given.slotProps.htmlInput, "aria-label": "Page, act or artifact" } }}
          />
        )}
      />
      <KeyList />
      <TextAct onClick={onDone}>Close</TextAct>
    </div>
  );
}
