/** The same in words: each user with its place, and the version each environment has. */

import { Link } from "react-router";
import { csvCell } from "../../marks/csv";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { fileName } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { addressOf, nameOf, type UsedOne, type Uses, type Using } from "./model";

interface Listed {
  told: Uses;
  side: string;
  at: string;
  chosen: string;
  onChoose: (one: Using | UsedOne) => void;
}

export function UsesTable({ told, side, at, chosen, onChoose }: Listed) {
  const rows: (Using | UsedOne)[] = side === "of" ? told.uses : told.used_by;
  const environments = side === "of" ? [] : told.environments;
  const save = () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([csv(rows, environments)], { type: "text/csv" }));
    link.download = `uses of ${fileName(told.artifact)}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <section className="sheet usestable" aria-label="Uses as a table">
      <div className="ph">
        <h2 className="h3">{side === "of" ? "What it uses" : "Where they run"}</h2>
        <span className="cap">{environments.length ? "the version in each environment" : ""}</span>
        <span className="r">
          <TextAct onClick={save}>Save as CSV</TextAct>
        </span>
      </div>
      <div className="wide">
        <Table>
          <thead>
            <tr>
              <th className="num">Level</th>
              <th>Artifact</th>
              <th>Place</th>
              {side !== "of" && <th>Effect</th>}
              <th>Found</th>
              {environments.map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr
                key={`${one.shelf} ${one.artifact}`}
                className={nameOf(one, told.shelf) === chosen ? "on" : ""}
                onClick={() => onChoose(one)}
              >
                <td className="num">{one.level}</td>
                <td>
                  <KindIcon kind={one.kind} />{" "}
                  <Link to={addressOf(one, told.shelf, at)} title={one.artifact}>
                    {nameOf(one, told.shelf)}
                  </Link>
                </td>
                <td className="place" title={one.place}>
                  {one.verb === "made by" ? `${side === "of" ? "makes" : "made by"} ${one.through.map(fileName).join(", ")}` : one.label}
                  {"places" in one && one.places > 1 ? ` and ${one.places - 1} more` : ""}
                </td>
                {"effect" in one && (
                  <td>
                    <Effect effect={one.effect} />
                  </td>
                )}
                <td>{one.exact ? "exact" : "guess"}</td>
                {"effect" in one && environments.map((name) => <td key={name}>{runs(one, name)}</td>)}
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
    </section>
  );
}

function runs(one: Using, environment: string): string {
  const run = (one.runs_in ?? []).find((r) => r.environment === environment);
  if (!run || run.version === null) return "not yet";
  return `v${run.version}${run.uses === false ? ", does not use it" : ""}`;
}

function csv(rows: (Using | UsedOne)[], environments: string[]): string {
  const heads = [
    "level",
    "shelf",
    "artifact",
    "kind",
    "place",
    "label",
    "verb",
    "effect",
    "found",
    "through",
    ...environments.map((name) => `version in ${name}`),
  ];
  const lines = rows.map((one) => [
    one.level,
    one.shelf,
    one.artifact,
    one.kind,
    one.place,
    one.label,
    one.verb,
    "effect" in one ? one.effect : "",
    one.exact ? "exact" : "a guess",
    one.through.join("; "),
    ...environments.map((name) => ("effect" in one ? ((one.runs_in ?? []).find((r) => r.environment === name)?.version ?? "") : "")),
  ]);
  return [heads, ...lines].map((line) => `${line.map((cell) => csvCell(cell)).join(",")}\n`).join("");
}
