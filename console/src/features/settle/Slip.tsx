import { Mark } from "../../marks/Mark";
import { against, linesOf } from "./model";

interface Props {
  title: string;
  where: string;
  value: unknown;
  base?: unknown;
  children?: React.ReactNode;
}

/** What one side has in the place of a conflict; what differs from the base is marked by glyph and pattern. */
export function Slip({ title, where, value, base, children }: Props) {
  const isBase = children === undefined;
  const lines = against(isBase ? linesOf(value) : linesOf(base), linesOf(value));
  return (
    <article className={isBase ? "slip base" : "slip"} aria-label={title}>
      <header>
        <b>{title}</b>
        <span className="cap">{where}</span>
      </header>
      {value === undefined && lines.length === 0 ? (
        <p className="mut nothing">{isBase ? "not there" : "removed here"}</p>
      ) : (
        <ul>
          {value === undefined && <li className="mut">removed here</li>}
          {lines.map((line, n) => (
            <li key={n} className={line.state}>
              {line.state !== "same" && <Mark action={line.state} />}
              <span>{line.text || " "}</span>
            </li>
          ))}
        </ul>
      )}
      {isBase ? <footer className="cap">the last version both sides share</footer> : children}
    </article>
  );
}
