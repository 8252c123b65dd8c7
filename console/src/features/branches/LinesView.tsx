/** Branches as lines over the ground of the main branch, oldest left; arrows walk along the commits. */

import { useQuery } from "@tanstack/react-query";
import { Fragment, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { arrange, firstOf, type Placed, tagNames } from "./lines";

const LETTER = 8;
const SMALL_LETTER = 6.7;
const STEP = 26;
const LANE = 34;
const MARGIN = 16;
const SHOWN = 120;
const BRANCHES_OF_ONE = 12;

export function LinesView() {
  const key = useShelfKey();
  const [most, setMost] = useState(SHOWN);
  const found = useQuery({
    queryKey: ["shelf", key, "lines", most],
    queryFn: () => answer(api.GET("/shelves/{shelf}/lines", { params: { path: { shelf: key }, query: { limit: most } } })),
  });
  const drawn = useMemo(() => (found.data ? arrange(found.data.commits, found.data.main) : null), [found.data]);
  const [at, setAt] = useState("");
  const frame = useRef<HTMLDivElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    if (frame.current) frame.current.scrollLeft = frame.current.scrollWidth;
  }, [drawn]);
  if (found.isError) return <ProblemBox error={found.error} />;
  if (!drawn || !found.data || found.data.commits.length === 0) return null;
  const total = found.data.commits.length;
  const named = Math.max(0, ...found.data.commits.flatMap((c) => c.branches.map((b) => b.length)));
  const tall = MARGIN * 2 + drawn.height * LANE + 18;
  const px = (x: number) => MARGIN + x * STEP + STEP / 2;
  const py = (lane: number) => tall - MARGIN - 14 - lane * LANE;
  const tags = tagNames(drawn.placed.values(), px, SMALL_LETTER);
  const written = Math.max(0, ...tags.map((t) => t.start + t.tag.length * SMALL_LETTER));
  const width = MARGIN * 2 + Math.max(total * STEP + Math.max(150, named * LETTER), written);
  const chosen = drawn.placed.get(at) ?? drawn.placed.get(found.data.commits[0]?.commit ?? "");
  const walk = (event: React.KeyboardEvent) => {
    const here = chosen;
    if (!here) return;
    const all = [...drawn.placed.values()].sort((a, b) => a.x - b.x);
    const line = all.filter((p) => p.lane === here.lane);
    const next: Record<string, Placed | undefined> = {
      ArrowLeft: line.filter((p) => p.x < here.x).at(-1),
      ArrowRight: line.find((p) => p.x > here.x),
      ArrowUp: all.filter((p) => p.lane > here.lane).sort((a, b) => a.lane - b.lane || Math.abs(a.x - here.x) - Math.abs(b.x - here.x))[0],
      ArrowDown: all
        .filter((p) => p.lane < here.lane)
        .sort((a, b) => b.lane - a.lane || Math.abs(a.x - here.x) - Math.abs(b.x - here.x))[0],
    };
    if (next[event.key]) {
      event.preventDefault();
      setAt(next[event.key]?.commit.commit ?? "");
    }
  };
  return (
    <section className="sheet lines" aria-label="How branches came apart and together">
      <div className="ph">
        <h2 className="h3">Branch history</h2>
        <span className="cap">the newest {count(total, "commit")}, oldest left; arrows walk</span>
        {found.data.more && (
          <span className="r">
            <TextAct onClick={() => setMost(most * 2)}>Show older ones</TextAct>
          </span>
        )}
      </div>
      <div
        ref={frame}
        className="scroll"
        tabIndex={0}
        role="application"
        aria-label={`Drawing of branches; ${told(chosen)}`}
        onKeyDown={walk}
      >
        <svg width={width} height={tall} aria-hidden="true">
          {drawn.lanes.map((l) => {
            const y = py(l.lane);
            const strong = l.lane === 0;
            return (
              <path
                key={`${l.name} ${l.from} ${l.lane}`}
                d={`M${px(l.from + (strong ? 0 : 1))} ${y}H${px(strong ? l.to : Math.max(l.from + 1, lastOwn(drawn.placed, l.lane, l.from, l.to)))}`}
                stroke={strong ? "var(--board-edge)" : "var(--accent)"}
                strokeWidth={strong ? 3 : 1.6}
                strokeDasharray={l.gone ? "4 3" : undefined}
              />
            );
          })}
          {[...drawn.placed.values()].flatMap((p) =>
            p.commit.parents.map((parent, n) => {
              const q = drawn.placed.get(parent);
              if (!q || q.lane === p.lane) return null;
              const joins = n > 0;
              const x = joins ? px(p.x) : px(q.x);
              const bend = joins
                ? `M${px(q.x)} ${py(q.lane)}H${x - 14}Q${x} ${py(q.lane)} ${x} ${py(p.lane)}`
                : `M${x} ${py(q.lane)}Q${x} ${py(p.lane)} ${x + 14} ${py(p.lane)}H${px(p.x)}`;
              return (
                <path
                  key={`${p.commit.commit} ${parent}`}
                  d={bend}
                  fill="none"
                  stroke={joins ? "var(--ink-2)" : "var(--accent)"}
                  strokeWidth="1.4"
                  strokeDasharray={joins ? undefined : "1 0"}
                />
              );
            }),
          )}
          {drawn.lanes
            .filter((l) => !l.gone)
            .map((l) => (
              <text key={`name ${l.name}`} x={px(l.to) + 14} y={py(l.lane) + 4} className="linename">
                {l.name}
              </text>
            ))}
          {[...drawn.placed.values()].map((p) => {
            const x = px(p.x);
            const y = py(p.lane);
            const merge = p.commit.parents.length > 1;
            const here = p === chosen;
            return (
              <g key={p.commit.commit} className="commit" onClick={() => setAt(p.commit.commit)}>
                <rect x={x - STEP / 2} y={y - 14} width={STEP} height={28} fill="transparent" />
                {merge ? (
                  <path
                    d={`M${x} ${y - 6}L${x + 6} ${y}L${x} ${y + 6}L${x - 6} ${y}Z`}
                    fill="var(--sheet)"
                    stroke="var(--ink)"
                    strokeWidth="1.6"
                  />
                ) : (
                  <rect x={x - 3.5} y={y - 6} width="7" height="12" rx="1" fill={p.lane === 0 ? "var(--ink-2)" : "var(--accent)"} />
                )}
                {here && <rect x={x - 9} y={y - 11} width="18" height="22" rx="3" fill="none" stroke="var(--accent)" strokeWidth="2" />}
                {tags
                  .filter((t) => t.commit === p.commit.commit)
                  .map((t) => (
                    <g key={t.tag}>
                      <path
                        d={
                          t.start > t.mark + 3 ? `M${t.mark} ${y + 7}V${y + 9.5}H${t.start - 3}V${y + 16}` : `M${t.mark} ${y + 7}V${y + 16}`
                        }
                        fill="none"
                        stroke="var(--ink-3)"
                      />
                      <text x={t.start} y={y + 20} className="linetag">
                        {t.tag}
                      </text>
                    </g>
                  ))}
              </g>
            );
          })}
        </svg>
      </div>
      {chosen && (
        <p className="pad told" role="status">
          <b>{chosen.commit.summary}</b>{" "}
          <span className="sec">
            {chosen.commit.author}, {when(chosen.commit.recorded)}
          </span>{" "}
          {chosen.commit.parents[0] && (
            <Link
              className="mono"
              to={`/s/${key}/compare?${new URLSearchParams({ from: `commit:${chosen.commit.parents[0].slice(0, 12)}`, to: `commit:${chosen.commit.commit.slice(0, 12)}` })}`}
            >
              {chosen.commit.commit.slice(0, 8)}
            </Link>
          )}
          {firstOf(chosen.commit.branches, BRANCHES_OF_ONE).map((b) => (
            <Fragment key={b}>
              {" "}
              <span className="readonly" style={{ marginLeft: 4 }}>
                {b}
              </span>
            </Fragment>
          ))}
          {chosen.commit.parents.length > 1 && <i className="w"> merge</i>}
        </p>
      )}
    </section>
  );
}

/** Where the line's own commits end: what lies behind is the way to the commit that took it in. */
function lastOwn(placed: Map<string, Placed>, lane: number, from: number, to: number): number {
  return Math.max(...[...placed.values()].filter((p) => p.lane === lane && p.x >= from && p.x <= to).map((p) => p.x), from);
}

function told(p: Placed | undefined): string {
  return p ? `${p.commit.summary}, ${p.commit.author}, ${when(p.commit.recorded)}` : "";
}
