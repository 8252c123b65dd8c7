/** The folders of a state as a tree; the chosen one narrows the list. */
import { memo, startTransition, useEffect, useMemo, useState } from "react";
import { count, group } from "../../marks/words";
import { type Branch, LongTree } from "../../parts/LongTree";
import { type Folder, treeOf } from "./folders";

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
  const tree = useMemo(() => {
    const asBranch = (one: Folder): Branch => ({
      id: one.path,
      name: <Name name={one.name} count={one.count} />,
      inside: one.inside.map(asBranch),
    });
    return [{ id: ALL, name: <Name name="All folders" count={total} />, inside: treeOf(folders).map(asBranch) }];
  }, [folders, total]);
  // The list comes first: a tree of many folders takes longer to draw than its rows.
  const [drawn, setDrawn] = useState(false);
  useEffect(() => startTransition(() => setDrawn(true)), []);
  if (!drawn) return <nav className="sheet folders" aria-label="Folders" />;
  return (
    <nav className="sheet folders" aria-label="Folders">
      <LongTree
        label="Folders"
        thing="folder"
        branches={tree}
        opened={[ALL]}
        chosen={chosen || ALL}
        onChoose={(id) => onChoose(id === ALL ? "" : id)}
      />
      {more > 0 && <p className="cap pad">{count(more, "more folder")}; narrow by words to see what is in them</p>}
    </nav>
  );
});

function Name({ name, count }: { name: string; count: number }) {
  return (
    <span className="name" title={name}>
      <span>{name}</span> <em>{group(count)}</em>
    </span>
  );
}
