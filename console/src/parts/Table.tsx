/** A table that scrolls in a frame of its own where it is wider than its place; keys reach the frame then. */
import { Table as Plain, type TableProps } from "@mui/material";
import { useEffect, useRef, useState } from "react";

export function Table(props: TableProps) {
  const frame = useRef<HTMLDivElement>(null);
  const [isWider, setIsWider] = useState(false);
  useEffect(() => {
    const own = frame.current;
    if (!own) return;
    const watcher = new ResizeObserver(() => setIsWider(own.scrollWidth > own.clientWidth));
    watcher.observe(own);
    if (own.firstElementChild) watcher.observe(own.firstElementChild);
    return () => watcher.disconnect();
  }, []);
  const reached = isWider ? { tabIndex: 0, role: "group", "aria-label": `${props["aria-label"] ?? "Table"}, wider than the page` } : {};
  return (
    <div className="ownframe" ref={frame} {...reached}>
      <Plain {...props} />
    </div>
  );
}
