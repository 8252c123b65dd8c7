/** A pipeline or workflow as a drawing, of one version or of both in one. */

import { Autocomplete, createFilterOptions, TextField } from "@mui/material";
import { useEffect, useMemo, useRef, useState } from "react";
import { count } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { Canvas, type View } from "./Canvas";
import { type Drawing, type DrawnNode, isBehind, type Placed } from "./geometry";
import { laidOut } from "./layers";
import { asDrawn, isPlaced } from "./place";
import { LARGEST, owner, READABLE, type Side, SMALLEST, visible, whole } from "./view";

interface Props {
  drawing: Drawing;
  /** Path of the part chosen elsewhere, such as that of a finding. */
  chosen: string;
  onChoose: (part: string) => void;
  compared?: boolean;
  height?: number;
}
const few = createFilterOptions<DrawnNode>({ limit: 60, stringify: (n) => `${n.label} ${n.type} ${n.detail}` });

export function DrawingView({ drawing, chosen, onChoose, compared = false, height = 470 }: Props) {
  const [side, setSide] = useState<Side>("both");
  const [ownPlaces, setOwnPlaces] = useState(false);
  const fromFile = isPlaced(drawing) && !ownPlaces;
  const placed = usePlaces(drawing, fromFile);
  const frame = useRef<HTMLDivElement>(null);
  const view = useRef<View>(null);
  const shown = useMemo(() => visible(drawing, side), [drawing, side]);
  const width = useWidth(frame);
  const title = compared ? "Both versions in one graph" : "Graph";
  const tall = placed ? Math.min(height, Math.max(200, Math.ceil(placed.bounds.height * 1.1))) : height;
  const steps = useMemo(() => shown.nodes.filter((n) => !isBehind(n)), [shown]);
  const sized = steps.filter((n) => n.shape !== "port").length;
  const zoom = (by: number) => {
    const now = view.current?.getZoom() ?? 1;
    void view.current?.zoomTo(Math.min(LARGEST, Math.max(SMALLEST, now * by)));
  };
  const showAll = () => placed && void view.current?.setViewport(whole(placed, { width, height: tall }));
  const keys = (event: React.KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "+" || event.key === "=") zoom(1.25);
    else if (event.key === "-") zoom(0.8);
    else if (event.key === "0") showAll();
    else return;
    event.preventDefault();
  };
  return (
    <section className="sheet drawing" aria-label={title}>
      <div className="ph">
        <h2 className="h3">{title}</h2>
        {!compared && (
          <span className="cap">
            {count(sized, "step")}, {count(drawing.edges.length, "connection")}
          </span>
        )}
        <span className="r">
          <Autocomplete
            size="small"
            sx={{ width: 170 }}
            options={steps}
            filterOptions={few}
            getOptionLabel={(n) => n.label}
            getOptionKey={(n) => n.id}
            isOptionEqualToValue={(a, b) => a.id === b.id}
            value={null}
            blurOnSelect
            onChange={(_, node) => node && onChoose(node.part)}
            renderOption={({ key, ...props }, node) => (
              <li key={key} {...props}>
                {node.label}&nbsp;<span className="cap">{node.type}</span>
              </li>
            )}
            renderInput={(given) => <TextField {...given} placeholder="Find a step" aria-label="Find a step" />}
          />
          {compared && (
            <Switch label="Version drawn">
              {(["before", "both", "after"] as Side[]).map((s) => (
                <Part key={s} pressed={side === s} onClick={() => setSide(s)}>
                  {s.charAt(0).toUpperCase() + s.slice(1)}
                </Part>
              ))}
            </Switch>
          )}
          <Switch label="Zoom">
            <Part aria-label="smaller" title="smaller (-)" onClick={() => zoom(0.8)}>
              −
            </Part>
            <Part title="all of it (0)" onClick={showAll}>
              fit
            </Part>
            <Part aria-label="larger" title="larger (+)" onClick={() => zoom(1.25)}>
              +
            </Part>
          </Switch>
        </span>
      </div>
      <div className="gr" ref={frame} style={{ height: tall }} onKeyDown={keys}>
        {placed && width > 0 ? (
          <Canvas
            key={`${fromFile} ${side}`}
            drawing={shown}
            placed={placed}
            width={width}
            height={tall}
            at={owner(drawing, chosen)}
            onChoose={onChoose}
            ghosts={side === "both"}
            onView={(made) => {
              view.current = made;
            }}
            label="Drawing; arrows follow connections, plus and minus change its size, 0 shows all of it"
          />
        ) : (
          <p className="cap pad">Laying it out</p>
        )}
      </div>
      <p className="cap foot">
        {isPlaced(drawing) ? (
          <TextAct onClick={() => setOwnPlaces(!ownPlaces)}>{fromFile ? "Redraw layout" : "Show it as drawn in the file"}</TextAct>
        ) : (
          "Laid out by Every Shelf; the file has no coordinates of its own."
        )}
        {drawing.note && ` ${drawing.note.charAt(0).toUpperCase()}${drawing.note.slice(1)}.`}
        {placed && placed.bounds.width * READABLE > width && width > 0 && " Drag it or turn the wheel to move; Ctrl and the wheel to zoom."}
      </p>
    </section>
  );
}

function usePlaces(drawing: Drawing, fromFile: boolean): Placed | null {
  const own = useMemo(() => (fromFile ? asDrawn(drawing) : null), [drawing, fromFile]);
  const [made, setMade] = useState<{ of: Drawing; placed: Placed } | null>(null);
  useEffect(() => {
    if (fromFile) return;
    let wanted = true;
    void laidOut(drawing).then((placed) => wanted && setMade({ of: drawing, placed }));
    return () => {
      wanted = false;
    };
  }, [drawing, fromFile]);
  return own ?? (made?.of === drawing ? made.placed : null);
}

/** Its width in pixels; 0 until it is known. */
function useWidth(ref: React.RefObject<HTMLDivElement | null>): number {
  const [width, setWidth] = useState(0);
  useEffect(() => {
    if (!ref.current) return;
    const watcher = new ResizeObserver(([entry]) => entry && setWidth(Math.round(entry.contentRect.width)));
    watcher.observe(ref.current);
    return () => watcher.disconnect();
  }, [ref]);
  return width;
}
