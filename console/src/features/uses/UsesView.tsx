/** Who uses an artifact or a part of it, level by level; what it uses; where those run. */

import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { outline, uses as usesQuery } from "../../api/queries";
import { count, fileName } from "../../marks/words";
import { Part, Switch, TextAct, WordSwitch } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { LineageView } from "./LineageView";
import { type Box, nameOf, picture } from "./model";
import { UsesGraph } from "./UsesGraph";
import { UsesTable } from "./UsesTable";

const DEPTHS = ["1", "2", "3", "all"];
const ALL = 20;
const LISTED = 500;
const MOST = 5000;

export function UsesView({ shelf, path, at }: { shelf: string; path: string; at: string }) {
  const [part, setPart] = useParam("part");
  const [depth, setDepth] = useParam("depth", "3");
  const [side, setSide] = useParam("side", "by");
  const [guesses, setGuesses] = useParam("guesses", "on");
  const [chosen, setChosen] = useState("");
  const [limit, setLimit] = useState(LISTED);
  const asked = { part, depth: depth === "all" ? ALL : Number(depth) || 3, limit, exact: guesses === "off" };
  const found = useQuery({ ...usesQuery(shelf, path, at, asked), enabled: side !== "made" });
  const drawn = found.data ? picture(found.data, side === "of" ? "of" : "by") : null;
  return (
    <>
      <div className="originsbar usesbar">
        {side !== "made" && <PartField key={part} shelf={shelf} path={path} at={at} part={part} onPart={setPart} />}
        {side !== "made" && <span className="cap">Depth</span>}
        {side !== "made" && <WordSwitch label="Depth" words={DEPTHS} value={depth} onChoose={setDepth} />}
        <span className="cap">Show</span>
        <Switch label="Show">
          <Part pressed={side === "by"} onClick={() => setSide("")}>
            Used by
          </Part>
          <Part pressed={side === "of"} onClick={() => setSide("of")}>
            Uses
          </Part>
          <Part pressed={side === "made"} onClick={() => setSide("made")}>
            Made from
          </Part>
        </Switch>
        {side !== "made" && (
          <CheckField checked={guesses === "on"} onChange={(e) => setGuesses(e.target.checked ? "" : "off")}>
            guesses
          </CheckField>
        )}
      </div>
      {side === "made" && <LineageView shelf={shelf} path={path} at={at} />}
      {side !== "made" && found.isPending && <Loading what="Reading who uses what" />}
      {side !== "made" && found.isError && <ProblemBox error={found.error} />}
      {side !== "made" && found.data && drawn && (
        <>
          <h2 className="usesay">
            {side === "of"
              ? `${fileName(path)} uses ${count(found.data.uses.length, "artifact")}, ${found.data.uses.filter((one) => one.level === 1).length} of them itself.`
              : found.data.sentence}
          </h2>
          {drawn.boxes.length === 0 ? (
            <Empty>
              {side === "of"
                ? "It names nothing that is on this shelf."
                : "Nothing that could be read uses it. A name in a binary file, or one put together while a program runs, is not seen."}
            </Empty>
          ) : (
            <UsesGraph told={found.data} drawn={drawn} side={side} at={at} chosen={chosen} onChoose={(box: Box) => setChosen(box.id)} />
          )}
          {found.data.more && depth !== "all" && (
            <p className="cap">
              There are further levels. <TextAct onClick={() => setDepth("all")}>Show all</TextAct>
            </p>
          )}
          {found.data.cut && (
            <p className="cap">
              More artifacts are on these levels than the {count(Math.max(found.data.used_by.length, found.data.uses.length), "artifact")}{" "}
              listed. {limit < MOST && <TextAct onClick={() => setLimit(MOST)}>List up to {MOST.toLocaleString("en")}</TextAct>}
            </p>
          )}
          {drawn.boxes.length > 0 && (
            <UsesTable told={found.data} side={side} at={at} chosen={chosen} onChoose={(one) => setChosen(nameOf(one, shelf))} />
          )}
          {found.data.missing.length > 0 && (
            <section className="sheet" aria-label="Missing">
              <div className="ph">
                <h2 className="h3">Named, but not on this shelf</h2>
                <span className="cap">{count(found.data.missing.length, "name")}</span>
              </div>
              <p className="pad">
                {found.data.missing.slice(0, 40).map((one) => (
                  <span key={`${one.name} ${one.place}`} className="missed" title={one.place}>
                    <b className="mono">{one.name}</b> <span className="cap">{one.label}</span>
                  </span>
                ))}
              </p>
            </section>
          )}
          <p className="foot">
            {found.data.unread > 0 && <b>{count(found.data.unread, "artifact")} could not be read; what they use is not known.</b>}
            <span>
              <kbd>←</kbd> <kbd>→</kbd> level
            </span>
            <span>
              <kbd>↑</kbd> <kbd>↓</kbd> artifact
            </span>
            <span>
              <kbd>Enter</kbd> open the place
            </span>
            <span>
              From contents at {at}, {found.data.commit.slice(0, 8)}. Only what you may read is shown and counted.
            </span>
          </p>
        </>
      )}
    </>
  );
}

/** The part that is asked about, from the columns and first parts of the artifact or typed. */
function PartField({
  shelf,
  path,
  at,
  part,
  onPart,
}: {
  shelf: string;
  path: string;
  at: string;
  part: string;
  onPart: (part: string) => void;
}) {
  const [typed, setTyped] = useState(part);
  const known = useQuery(outline(shelf, path, at));
  const columns = known.data?.table?.columns.map((column) => column.name) ?? [];
  const parts = known.data?.parts.map((one) => one.label) ?? [];
  const names = [...new Set(columns.length ? columns : parts)].filter(Boolean).slice(0, 300);
  const [isNew, setNew] = useState(false);
  const isKnown = isNew && names.includes(typed);
  // Also a name that was typed before the names had arrived.
  useEffect(() => {
    if (!isKnown) return;
    setNew(false);
    onPart(typed);
  }, [isKnown, typed, onPart]);
  return (
    <form
      className="rowform"
      onSubmit={(e) => {
        e.preventDefault();
        onPart(typed.trim());
      }}
    >
      <Field
        id="uses-part"
        label="If this goes"
        list="uses-parts"
        value={typed}
        placeholder="all of it, or a part"
        onChange={(e) => {
          setTyped(e.target.value);
          setNew(true);
          if (e.target.value === "") onPart("");
        }}
      />
      <datalist id="uses-parts">
        {names.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <TextAct type="submit">Show</TextAct>
    </form>
  );
}
