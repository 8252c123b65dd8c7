/** Levels from left to right: `breaks` thick, `alters` thin, a guess dashed; three stations where a box runs. */

import { useEffect, useRef } from "react";
import { useNavigate } from "react-router";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { count, fileName } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { addressOf, type Box, beside, type Picture, type Uses } from "./model";

const WIDTH = 254;
const GAP = 62;
const HEIGHT = 52;
const STEP = 62;
const TOP = 32;
const LEFT = 12;

interface Drawn {
  told: Uses;
  drawn: Picture;
  side: string;
  at: string;
  chosen: string;
  onChoose: (box: Box) => void;
}

export function UsesGraph({ told, drawn, side, at, chosen, onChoose }: Drawn) {
  const go = useNavigate();
  const holder = useRef<HTMLDivElement>(null);
  const now = drawn.boxes.find((box) => box.id === chosen) ?? null;
  const columns = drawn.levels.length + 1;
  const width = LEFT * 2 + columns * WIDTH + (columns - 1) * GAP;
  const height = TOP + drawn.rows * STEP + 8;
  const x = (level: number) => LEFT + (level === 0 ? 0 : drawn.levels.indexOf(level) + 1) * (WIDTH + GAP);
  const offset = (level: number) => ((drawn.rows - drawn.boxes.filter((box) => box.level === level).length) * STEP) / 2;
  const y = (box: Box) => TOP + offset(box.level) + box.row * STEP;
  const start = TOP + ((drawn.rows - 1) * STEP) / 2;
  const at_ = new Map(drawn.boxes.map((box) => [box.id, { x: x(box.level), y: y(box) }]));
  at_.set(told.artifact, { x: LEFT, y: start });
  useEffect(() => {
    if (!chosen || !holder.current?.contains(document.activeElement)) return;
    holder.current.querySelector<HTMLButtonElement>(`[data-box="${CSS.escape(chosen)}"]`)?.focus();
  }, [chosen]);
  const keys = (event: React.KeyboardEvent) => {
    if (!event.key.startsWith("Arrow")) return;
    const next = beside(drawn.boxes, now, event.key);
    if (!next) return;
    event.preventDefault();
    onChoose(next);
  };
  const open = (box: Box) => go(addressOf(box, told.shelf, at, { view: "outline" }));
  return (
    <section className="sheet" aria-label={side === "of" ? "What it uses, by level" : "Users by level"}>
      <div className="ph">
        <h2 className="h3">{side === "of" ? "What it uses, by level" : "Users by level"}</h2>
        <span className="cap">
          {count(side === "of" ? told.uses.length : told.used_by.length, "artifact")}, {count(drawn.lines.length, "connection")}
        </span>
        <span className="r useskey" aria-hidden="true">
          {side !== "of" && (
            <>
              <Sample kind="breaks" /> breaks <i />
              <Sample kind="alters" /> alters <i />
            </>
          )}
          <Sample kind="guess" /> guess <i />
          {told.environments.length > 0 && (
            <>
              <Stations
                runs={told.environments.slice(0, 3).map((name, n) => ({ environment: name, version: n < 2 ? 1 : null, uses: null }))}
              />{" "}
              runs in {told.environments.slice(0, 3).join(", ")}
            </>
          )}
        </span>
      </div>
      <div className="usesgraph" ref={holder} onKeyDown={keys} role="presentation">
        <div style={{ position: "relative", width, height }}>
          <svg className="routes" width={width} height={height} aria-hidden="true">
            {drawn.levels.map((level) => (
              <path key={level} d={`M${x(level) - GAP / 2} 6V${height - 8}`} className="levelline" />
            ))}
            {drawn.lines.map((line) => {
              const from = at_.get(line.from);
              const to = at_.get(line.to);
              return from && to ? (
                <path
                  key={`${line.from} ${line.to}`}
                  d={route(from, to)}
                  className={`useline ${line.effect} ${line.exact ? "" : "guess"}`}
                  markerEnd={`url(#arrow-${line.effect === "breaks" ? "breaks" : "alters"})`}
                />
              ) : null;
            })}
            <defs>
              {["breaks", "alters"].map((name) => (
                <marker
                  key={name}
                  id={`arrow-${name}`}
                  viewBox="0 0 8 8"
                  refX="7"
                  refY="4"
                  markerWidth="8"
                  markerHeight="8"
                  markerUnits="userSpaceOnUse"
                  orient="auto"
                >
                  <path d="M0 0L8 4L0 8Z" className={`head ${name}`} />
                </marker>
              ))}
            </defs>
          </svg>
          <span className="cap levelname" style={{ left: LEFT }}>
            {told.part ? `The ${told.part.type || "part"}` : "The artifact"}
          </span>
          {drawn.levels.map((level) => (
            <span key={level} className="cap levelname" style={{ left: x(level) }}>
              Level {level}: {level === 1 ? (side === "of" ? "what it uses itself" : "use it themselves") : "through those"},{" "}
              {drawn.boxes.filter((box) => box.level === level).length + (drawn.left.get(level) ?? 0)}
            </span>
          ))}
          <div className={`usebox start ${side === "of" ? "" : "gone"}`} style={{ left: LEFT, top: start, width: WIDTH, height: HEIGHT }}>
            <KindIcon kind={told.kind} />
            <span className="t">
              <b>{told.part ? told.part.label : fileName(told.artifact)}</b>
            </span>
            <span className="d">
              {told.part ? `${told.part.type || "part"} of ${fileName(told.artifact)}` : told.artifact}
              {told.version ? `, v${told.version}` : ""}
            </span>
          </div>
          {drawn.boxes.map((box) => (
            <RowAct
              key={box.id}
              data-box={box.id}
              className={`usebox ${box.exact ? "" : "guess"}`}
              aria-pressed={box.id === chosen}
              style={{ left: x(box.level), top: y(box), width: WIDTH, height: HEIGHT }}
              title={`${box.artifact}\n${box.label}\n${box.place}`}
              onClick={() => (box.id === chosen ? void open(box) : onChoose(box))}
            >
              <KindIcon kind={box.kind} />
              <span className="t">
                <b>{fileName(box.artifact)}</b>
              </span>
              {box.effect && <Effect effect={box.effect} />}
              <span className="d">
                {box.verb !== "made by" ? box.label : side === "of" ? "makes it" : box.part ? `passes on ${box.part}` : "made by it"}
                {box.exact ? "" : ", a guess"}
              </span>
              {box.runs.length > 0 && <Stations runs={box.runs.slice(0, 3)} />}
              <span className="sr">{spoken(box)}</span>
            </RowAct>
          ))}
          {[...drawn.left].map(([level, left]) => (
            <span key={level} className="cap" style={{ position: "absolute", left: x(level), top: height - 16 }}>
              and {left} more in the table
            </span>
          ))}
        </div>
      </div>
    </section>
  );
}

function spoken(box: Box): string {
  const runs = box.runs.filter((run) => run.version !== null && run.uses !== false).map((run) => run.environment);
  return `, level ${box.level}${runs.length ? `, runs in ${runs.join(", ")}` : ""}`;
}

/** Along the middle of the gap between two levels. */
function route(from: { x: number; y: number }, to: { x: number; y: number }): string {
  const [x1, y1, x2, y2] = [from.x + WIDTH, from.y + HEIGHT / 2, to.x, to.y + HEIGHT / 2];
  const bend = x2 > x1 ? x2 - GAP / 2 : x1 + GAP / 2;
  return `M${x1} ${y1}H${bend}V${y2}H${x2 - 1}`;
}

export function Stations({ runs }: { runs: Box["runs"] }) {
  return (
    <svg className="stations" width={runs.length * 18} height="12" viewBox={`0 0 ${runs.length * 18} 12`} aria-hidden="true">
      {runs.length > 1 && <path d={`M6 6H${runs.length * 18 - 6}`} stroke="var(--line-strong)" />}
      {runs.map((run, n) => (
        <circle key={run.environment} cx={8 + n * 18} cy={6} r={4} className={run.version !== null && run.uses !== false ? "on" : ""} />
      ))}
    </svg>
  );
}

function Sample({ kind }: { kind: string }) {
  return (
    <svg width="26" height="6" aria-hidden="true">
      <path d="M0 3H26" className={`useline ${kind}`} />
    </svg>
  );
}
