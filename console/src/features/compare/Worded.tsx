/** A text beside its other version: only the words that differ are marked. */
import { useMemo } from "react";
import { inlinePieces, type Piece, wordPieces } from "./words";

interface Props {
  before: string | null;
  after: string | null;
  side: "before" | "after";
}

export function Worded({ before, after, side }: Props) {
  const pieces = useMemo<Piece[]>(() => {
    const text = side === "before" ? before : after;
    if (text === null) return [];
    if (before === null || after === null) return [{ text: text || "empty", own: true }];
    if (text === "") return [{ text: "empty", own: true }];
    return wordPieces(before, after)[side === "before" ? 0 : 1];
  }, [before, after, side]);
  return (
    <>
      {pieces.map((p, i) =>
        !p.own ? <span key={i}>{p.text}</span> : side === "before" ? <del key={i}>{p.text}</del> : <ins key={i}>{p.text}</ins>,
      )}
    </>
  );
}

/** A change in one line of text: what stayed once, what went and came where it did. */
export function Inline({ before, after }: { before: string | null; after: string | null }) {
  const pieces = useMemo(() => (before && after ? inlinePieces(before, after) : null), [before, after]);
  if (pieces === null)
    return (
      <>
        {before !== null && <del>{before || "empty"}</del>} {after !== null && <ins>{after || "empty"}</ins>}
      </>
    );
  return (
    <>
      {pieces.map((p, i) =>
        p.side === "both" ? <span key={i}>{p.text}</span> : p.side === "before" ? <del key={i}>{p.text}</del> : <ins key={i}>{p.text}</ins>,
      )}
    </>
  );
}
