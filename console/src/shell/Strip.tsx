/** The strip of spines on the board: one tab stop, arrows walk it. */
import { memo, useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import type { Artifact } from "../api/queries";
import { SpineShape, spineHeight, spineWidth } from "../marks/spines";
import { count, size, tone, when } from "../marks/words";

export interface Spine {
  artifacts: Artifact[];
  /** How many it stands for that have no spine of their own. */
  more: number;
  kind: string;
  x: number;
  w: number;
}

type Kind = Schemas["KindSummary"];
const ORDER = [
  "pipeline",
  "workflow",
  "dataset",
  "model",
  "notebook",
  "tests",
  "app",
  "database",
  "document",
  "spreadsheet",
  "script",
  "settings",
  "report",
  "api",
  "archive",
  "picture",
  "opaque",
];
const GAP_KIND = 13;
const GAP = 3.5;
/** Of a spine's own height: the strip leaves the room to the list, and says a name when it is pointed at. */
const TALL = 0.4;

/** Spines left to right, grouped by kind; within a kind the oldest merge into one when not all fit. */
export function arrange(all: Kind[], room: number): Spine[] {
  const rank = (kind: string) => (ORDER.includes(kind) ? ORDER.indexOf(kind) : ORDER.length);
  const kinds = [...all].sort((a, b) => rank(a.kind) - rank(b.kind));
  const total = (most: number) =>
    kinds.reduce(
      (sum, k) => sum + GAP_KIND + k.newest.slice(0, most).reduce((s, a) => s + spineWidth(a.size) + GAP, 0) + (k.count > most ? 50 : 0),
      0,
    );
  let most = Math.max(1, ...kinds.map((k) => k.newest.length));
  while (most > 1 && total(most) > room) most -= 1;
  const spines: Spine[] = [];
  let x = 2;
  for (const kind of kinds) {
    const own = kind.newest.slice(0, most);
    for (const artifact of own) {
      const w = spineWidth(artifact.size);
      spines.push({ artifacts: [artifact], more: 0, kind: kind.kind, x, w });
      x += w + GAP;
    }
    const rest = kind.newest.slice(most);
    if (kind.count > own.length) {
      const w = spineWidth(kind.bytes - own.reduce((s, a) => s + a.size, 0));
      spines.push({
        artifacts: rest.length ? rest : own.slice(-1),
        more: kind.count - own.length,
        kind: kind.kind,
        x,
        w,
      });
      x += w + GAP;
    }
    x += GAP_KIND - GAP;
  }
  return spines;
}

function named(spine: Spine): string {
  const first = spine.artifacts[0];
  if (!first) return "";
  if (spine.more > 0) return `and ${spine.more} more of kind ${spine.kind}`;
  return `${first.name}, ${spine.kind}, version ${first.version ?? "?"}, ${size(first.size)}, changed ${when(first.recorded)}`;
}

interface Props {
  kinds: Kind[];
  low?: boolean;
  current?: string;
  marks?: Record<string, string>;
  onOpen: (artifact: Artifact) => void;
  onShow?: (spine: Spine | null) => void;
}

export const Strip = memo(function Strip({ kinds, low = false, current, onOpen, onShow, marks = {} }: Props) {
  const frame = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState(1000);
  const [at, setAt] = useState(0);
  useEffect(() => {
    const measure = () => setRoom(Math.max(300, (frame.current?.clientWidth ?? 1000) - 48));
    measure();
    window.addEventListener("resize", measure);
    return () => window.removeEventListener("resize", measure);
  }, []);
  const spines = useMemo(() => arrange(kinds, low ? room : room - 20), [kinds, room, low]);
  const height = low ? 24 : 60;
  const show = (place: number, focus: boolean) => {
    setAt(place);
    onShow?.(spines[place] ?? null);
    if (focus) frame.current?.querySelectorAll<SVGGElement>("g.spine")[place]?.focus();
  };
  const walk = (event: React.KeyboardEvent) => {
    const step = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
    if (step) {
      event.preventDefault();
      show(Math.max(0, Math.min(spines.length - 1, at + step)), true);
    } else if (event.key === "Enter") {
      const artifact = spines[at]?.artifacts[0];
      if (artifact) onOpen(artifact);
    }
  };
  return (
    <div className={low ? "strip low" : "strip"} ref={frame} onMouseLeave={() => onShow?.(null)}>
      <svg
        width="100%"
        height={height}
        role="group"
        aria-label={`Strip of spines: ${count(
          kinds.reduce((sum, k) => sum + k.count, 0),
          "artifact",
        )}`}
        onKeyDown={walk}
      >
        {spines.map((spine, place) => {
          const first = spine.artifacts[0];
          if (!first) return null;
          const h = low ? Math.max(8, spineHeight(spine.kind) / 5.6) : spineHeight(spine.kind) * TALL;
          const up = current !== undefined && spine.artifacts.some((a) => a.path === current);
          const shade = tone(first.recorded);
          const mark = marks[first.path];
          return (
            <g
              key={`${first.path} ${spine.more}`}
              className={up ? "spine up" : "spine"}
              tabIndex={place === at ? 0 : -1}
              role="button"
              aria-label={named(spine)}
              onClick={() => onOpen(first)}
              onMouseEnter={() => show(place, false)}
              onFocus={() => show(place, false)}
            >
              <g transform={`translate(${spine.x} ${height})`}>
                <SpineShape kind={spine.kind} w={spine.w} h={h} tone={shade} />
                {mark && (
                  <text x={spine.w / 2} y={-h - 4} textAnchor="middle" fontSize="12" fontWeight="700" fill={`var(--${mark})`}>
                    {GLYPH[mark]}
                  </text>
                )}
              </g>
            </g>
          );
        })}
      </svg>
    </div>
  );
});

const GLYPH: Record<string, string> = { added: "+", removed: "−", changed: "≠", moved: "↷" };
