/** The folders of a state as a tree; the chosen one narrows the list. */
import { SimpleTreeView } from "@mui/x-tree-view/SimpleTreeView";
import { TreeItem } from "@mui/x-tree-view/TreeItem";
import { memo, useEffect, useMemo, useState } from "react";
import { count, group } from "../../marks/words";
import { above, type Folder, treeOf } from "./folders";

const ALL = "/";

interface Props {
  folders: { folder: string; count: number }[];
  /** How many folders are not listed, on very large shelves. */
  more: number;
  total: number;
  chosen: string;
  onChoose: (folder: string) => void;
}

export default memo(function Folders({ folders, more, total, chosen, onChoose }: Props) {
  const tree = useMemo(() => treeOf(folders), [folders]);
  const [open, setOpen] = useState<string[]>([ALL, ...above(chosen)]);
  useEffect(() => setOpen((old) => [...new Set([...old, ...above(chosen)])]), [chosen]);
  return (
    <nav className="sheet folders" aria-label="Folders">
      <SimpleTreeView
        aria-label="Folders"
        expandedItems={open}
        onExpandedItemsChange={(_, items) => setOpen(items)}
        selectedItems={chosen || ALL}
        onSelectedItemsChange={(_, item) => onChoose(item === null || item === ALL ? "" : item)}
        expansionTrigger="iconContainer"
        slots={{ expandIcon: () => <span aria-hidden="true">▸</span>, collapseIcon: () => <span aria-hidden="true">▾</span> }}
      >
        <TreeItem itemId={ALL} label={<Name name="All folders" count={total} />}>
          {tree.map((one) => (
            <Branch key={one.path} folder={one} />
          ))}
        </TreeItem>
      </SimpleTreeView>
      {more > 0 && <p className="cap pad">{count(more, "more folder")}; narrow by words to see what is in them</p>}
    </nav>
  );
});

function Branch({ folder }: { folder: Folder }) {
  return (
    <TreeItem itemId={folder.path} label={<Name name={folder.name} count={folder.count} />}>
      {folder.inside.length > 0 && folder.inside.map((one) => <Branch key={one.path} folder={one} />)}
    </TreeItem>
  );
}

function Name({ name, count }: { name: string; count: number }) {
  return (
    <span className="name" title={name}>
      <span>{name}</span> <em>{group(count)}</em>
    </span>
  );
}
