/** A tree of which each level is drawn in steps: a few at first, more when asked for, always as far as what is chosen. */
import { SimpleTreeView } from "@mui/x-tree-view/SimpleTreeView";
import { TreeItem } from "@mui/x-tree-view/TreeItem";
import { type ReactNode, useEffect, useMemo, useState } from "react";
import { count } from "../marks/words";
import { inSight, wayTo } from "./levels";

export interface Branch {
  id: string;
  name: ReactNode;
  inside: Branch[];
}

interface Props {
  label: string;
  /** What the things are, for *40 more folders*. */
  thing: string;
  things?: string;
  branches: Branch[];
  /** Ids of those that are open at first. */
  opened: string[];
  chosen: string;
  onChoose: (id: string) => void;
}

/** Leads the id of the item that shows more of a level; no thing of a shelf has a name with this character. */
const MORE = "\0";

export function LongTree({ label, thing, things, branches, opened, chosen, onChoose }: Props) {
  const way = useMemo(() => wayTo(branches, chosen), [branches, chosen]);
  const [open, setOpen] = useState<string[]>([...opened, ...way]);
  const [asked, setAsked] = useState<Record<string, number>>({});
  useEffect(() => setOpen((old) => [...new Set([...old, ...way])]), [way]);
  const there = new Set(open);
  const level = (list: Branch[], path: string): ReactNode[] => {
    const { shown, left } = inSight(list, asked[path] ?? 0, way);
    const items = shown.map((one) => (
      <TreeItem key={one.id} itemId={one.id} label={one.name}>
        {/* What is closed is one item, so that it can be opened, until it is. */}
        {one.inside.length > 0 && (there.has(one.id) ? level(one.inside, one.id) : <TreeItem itemId={`${MORE}${MORE}${one.id}`} />)}
      </TreeItem>
    ));
    const more = <span className="name more">{count(left, `more ${thing}`, things && `more ${things}`)}</span>;
    return left > 0 ? [...items, <TreeItem key={MORE} itemId={MORE + path} label={more} />] : items;
  };
  const choose = (item: string | null) => {
    if (item === null || !item.startsWith(MORE)) return onChoose(item ?? "");
    const path = item.slice(MORE.length);
    setAsked({ ...asked, [path]: (asked[path] ?? 0) + 1 });
  };
  return (
    <SimpleTreeView
      aria-label={label}
      expandedItems={open}
      onExpandedItemsChange={(_, items) => setOpen(items)}
      selectedItems={chosen || null}
      onSelectedItemsChange={(_, item) => choose(item)}
      expansionTrigger="iconContainer"
      slots={{ expandIcon: () => <span aria-hidden="true">▸</span>, collapseIcon: () => <span aria-hidden="true">▾</span> }}
    >
      {level(branches, "")}
    </SimpleTreeView>
  );
}
