/** A text in which the words that were looked for are marked. */
export function Marked({ text, marks }: { text: string; marks: readonly (readonly unknown[])[] }) {
  const letters = Array.from(text); // marks count characters as the service does, not halves of them
  const pieces: React.ReactNode[] = [];
  let at = 0;
  for (const [start, end] of marks as [number, number][]) {
    if (start < at) continue;
    pieces.push(letters.slice(at, start).join(""), <mark key={start}>{letters.slice(start, end).join("")}</mark>);
    at = end;
  }
  return (
    <>
      {pieces}
      {letters.slice(at).join("")}
    </>
  );
}
