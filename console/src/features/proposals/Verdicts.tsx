/** Verdicts: words and marks of their own, no lights. */

import { Button } from "@mui/material";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { when } from "../../marks/words";
import { WordSwitch } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { useShelfKey } from "../../shell/Page";
import type { Act } from "./act";
import type { Proposal } from "./queries";

const VERDICTS = ["agree", "against"] as const;

/** Solid for agreement, barred for against. */
function Sign({ verdict }: { verdict: string }) {
  return (
    <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true" style={{ flex: "none", marginTop: 2 }}>
      <rect
        x="1.5"
        y="1.5"
        width="13"
        height="13"
        rx="2"
        fill={verdict === "agree" ? "var(--accent)" : "none"}
        stroke="var(--accent)"
        strokeWidth="1.5"
      />
      {verdict === "against" && <path d="M4 8H12" stroke="var(--accent)" strokeWidth="2.4" />}
    </svg>
  );
}

export function Verdicts({ p, act }: { p: Proposal; act: Act }) {
  const key = useShelfKey();
  const [verdict, setVerdict] = useState<(typeof VERDICTS)[number]>("agree");
  const [text, setText] = useState("");
  const given = new Set(p.verdicts.map((v) => v.person));
  const needs = verdict === "against";
  return (
    <section className="sheet" aria-label="Verdicts">
      <div className="ph">
        <h2 className="h3">Verdicts</h2>
      </div>
      <ul className="holds">
        {p.verdicts.map((v) => (
          <li key={v.person} className={v.lapsed ? "lapsed" : ""}>
            <Sign verdict={v.verdict} />
            <span>
              <b>{v.person}</b> {v.verdict}
              {v.text && `: ${v.text}`}{" "}
              <span className="cap">
                {when(v.made)}
                {v.lapsed && `; lapsed, ${v.lapsed}`}
              </span>
            </span>
          </li>
        ))}
        {p.reviewers
          .filter((r) => !given.has(r))
          .map((r) => (
            <li key={r} className="mut">
              <span className="st" aria-hidden="true" /> {r} is asked for a verdict
            </li>
          ))}
        {p.verdicts.length === 0 && p.reviewers.length === 0 && <li className="mut">No reviewers yet.</li>}
      </ul>
      {p.may_judge && p.state === "open" && (
        <form
          className="pad verdict"
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate(
              () =>
                answer(
                  api.POST("/shelves/{shelf}/proposals/{number}/verdict", {
                    params: { path: { shelf: key, number: p.number } },
                    body: { verdict, text, commit: p.head },
                  }),
                ),
              { onSuccess: () => setText("") },
            );
          }}
        >
          <WordSwitch label="Your verdict" words={VERDICTS} value={verdict} onChoose={setVerdict} />
          {needs && <Field required aria-label="Reason" placeholder="Reason" value={text} onChange={(e) => setText(e.target.value)} />}
          <Button type="submit" variant="outlined" disabled={act.isPending}>
            Give verdict
          </Button>
        </form>
      )}
    </section>
  );
}
