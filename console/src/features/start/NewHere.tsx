/** A line for who opens a shelf for the first time, until it is followed or closed. */
import { useState } from "react";
import { Link } from "react-router";
import { TextAct } from "../../parts/Acts";
import { hasReadSteps, readSteps } from "./read";
import { withArticle } from "./steps";

export function NewHere({ shelf, role }: { shelf: string; role: string }) {
  const [closed, setClosed] = useState(() => hasReadSteps(shelf, role));
  if (closed) return null;
  return (
    <p className="sheet pad newhere">
      New here? <Link to={`/s/${shelf}/first-steps`}>First steps as {withArticle(role)}</Link>
      <TextAct
        className="end"
        onClick={() => {
          readSteps(shelf, role);
          setClosed(true);
        }}
      >
        Close
      </TextAct>
    </p>
  );
}
