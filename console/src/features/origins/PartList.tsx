/** Parts with who set each, when and why; below them the parts that were removed. */

import { useEffect, useState } from "react";
import { Mark } from "../../marks/Mark";
import { count, group, tone, when } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { type Entry, type Origins, TONES } from "./model";

const SHOWN = 1500;

export function PartList({
  told,
  list,
  chosen,
  onChoose,
}: {
  told: Origins;
  list: Entry[];
  chosen: string;
  onChoose: (entry: Entry) => void;
}) {
  const [gone, setGone] = useState(false);
  const removed = told.removed ?? [];
  const last = removed[0];
  const by = last ? told.commits[last.removed] : undefined;
  useEffect(() => {
    document.getElementById(`origin-${chosen}`)?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const walk = (event: React.KeyboardEvent) => {
    const step = event.key === "ArrowDown" || event.key === "]" ? 1 : event.key === "ArrowUp" || event.key === "[" ? -1 : 0;
    const next = list[list.findIndex((entry) => entry.id === chosen) + step];
    if (!step || !next) return;
    event.preventDefault();
    onChoose(next);
    document.getElementById(`origin-${next.id}`)?.focus();
  };
  return (
    <section className="sheet" aria-label="Who set it">
      <div className="scroll tall" onKeyDown={walk}>
        <Table className="origins">
          <thead>
            <tr>
              <th className="age">
                <span className="sr">Age</span>
              </th>
              <th>Part</th>
              <th className="w8">Who</th>
              <th className="w8">When</th>
              <th className="w30">Why</th>
              <th className="w4">In</th>
            </tr>
          </thead>
          <tbody>
            {list.slice(0, SHOWN).map((entry) => (
              <tr key={entry.id} className={entry.id === chosen ? "on" : ""}>
                <td className="age">
                  <i className={`tone${tone(entry.commit.recorded)}`} title={TONES[tone(entry.commit.recorded)]} />
                </td>
                <td>
                  <RowAct
                    id={`origin-${entry.id}`}
                    className="pick"
                    aria-current={entry.id === chosen}
                    title={entry.id}
                    style={{ paddingLeft: entry.depth * 14 }}
                    onClick={() => onChoose(entry)}
                  >
                    {entry.label}
                    {entry.type !== "field" && entry.type !== entry.label && <span className="mut"> {entry.type}</span>}
                  </RowAct>
                </td>
                <td>{entry.commit.author}</td>
                <td title={entry.commit.recorded}>{when(entry.commit.recorded)}</td>
                <td className="why" title={entry.commit.summary}>
                  {entry.commit.summary}
                  {entry.cosmetic && <i className="w"> cosmetic</i>}
                </td>
                <td>{entry.commit.version ? `v${entry.commit.version}` : ""}</td>
              </tr>
            ))}
          </tbody>
        </Table>
        {list.length === 0 && <p className="pad mut">No part matches all of that.</p>}
        {list.length > SHOWN && <p className="pad cap">{group(list.length - SHOWN)} more; look for one above.</p>}
      </div>
      {last && (
        <div className="removedbar">
          <Mark action="removed" />{" "}
          <span>
            <b>{count(removed.length, "removed part")}</b>, last “{last.label}”
            {by && (
              <>
                , removed by {by.author} {when(by.recorded)}
              </>
            )}
          </span>
          <TextAct aria-expanded={gone} onClick={() => setGone(!gone)}>
            {gone ? "Hide removed" : "Show removed"}
          </TextAct>
        </div>
      )}
      {gone && (
        <Table className="origins" aria-label="Removed parts">
          <thead>
            <tr>
              <th>Part</th>
              <th>Removed by</th>
              <th>When</th>
              <th>Why</th>
              <th>In</th>
            </tr>
          </thead>
          <tbody>
            {removed.map((part, i) => {
              const commit = told.commits[part.removed];
              return (
                commit && (
                  <tr key={`${part.path}${i}`}>
                    <td title={part.path}>
                      {part.label} <span className="mut">{part.type}</span>
                    </td>
                    <td>{commit.author}</td>
                    <td>{when(commit.recorded)}</td>
                    <td className="why">{commit.summary}</td>
                    <td>v{commit.version}</td>
                  </tr>
                )
              );
            })}
          </tbody>
        </Table>
      )}
    </section>
  );
}
