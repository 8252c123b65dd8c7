/** A key and the button beside one's name: what this page is for, what its words mean, and the keys. */
import { useLocation } from "react-router";
import { RowAct } from "../parts/Acts";
import { Sheet, useSheet } from "../parts/Sheet";
import { helpFor } from "./help";
import { KeyList } from "./KeyList";
import { useKey, useOwnKeys } from "./ownKeys";

export function HelpAct() {
  const sheet = useSheet();
  const { show } = sheet;
  const help = helpFor(useLocation().pathname);
  const key = useOwnKeys().help;
  useKey("help", show);
  return (
    <>
      <RowAct
        className="helpact"
        aria-label="Help for this page"
        title={key ? `Help for this page (${key})` : "Help for this page"}
        onClick={show}
      >
        ?
      </RowAct>
      <Sheet of={sheet} label={`Help: ${help.title}`}>
        <h2>{help.title}</h2>
        <p>{help.lead}</p>
        <dl className="helpwords">
          {help.words.map(([word, meaning]) => (
            <div key={word}>
              <dt>{word}</dt>
              <dd>{meaning}</dd>
            </div>
          ))}
        </dl>
        <h3 className="h3">Keys</h3>
        <KeyList change />
      </Sheet>
    </>
  );
}
