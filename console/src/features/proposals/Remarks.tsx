/** Remarks: each says where its part is now, wherever it went since. */

import { Button } from "@mui/material";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../../api/client";
import { Tick } from "../../marks/Mark";
import { count, fileName, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { useMe, useShelfKey } from "../../shell/Page";
import type { Act } from "./act";
import type { Proposal, Remark } from "./queries";

function remarked(shelf: string, p: Proposal, body: Schemas["NewRemarkRequest"]): Promise<Proposal> {
  return answer(api.POST("/shelves/{shelf}/proposals/{number}/remarks", { params: { path: { shelf, number: p.number } }, body }));
}

export function Remarks({ p, act, about }: { p: Proposal; act: Act; about: string }) {
  const key = useShelfKey();
  const [text, setText] = useState("");
  const [condition, setCondition] = useState(false);
  const open = p.remarks.filter((r) => !r.settled).length;
  return (
    <section className="sheet" aria-label="Remarks">
      <div className="ph">
        <h2 className="h3">{count(p.remarks.length, "remark")}</h2>
        <span className="cap">{open ? `${open} open` : p.remarks.length ? "all done" : ""}</span>
      </div>
      {p.remarks.map((r) => (
        <OneRemark key={r.id} p={p} remark={r} act={act} />
      ))}
      <form
        className="pad"
        onSubmit={(e) => {
          e.preventDefault();
          act.mutate(() => remarked(key, p, { text, path: about, condition }), {
            onSuccess: () => {
              setText("");
              setCondition(false);
            },
          });
        }}
      >
        <Field
          id="remark-text"
          label={about ? `Remark on ${fileName(about)}` : "Remark on the proposal"}
          rows={2}
          required
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        {p.may_judge && (
          <CheckField checked={condition} onChange={(e) => setCondition(e.target.checked)} className="sm">
            Condition: do not merge before this is met
          </CheckField>
        )}
        <div className="line1">
          <Button type="submit" variant="outlined" disabled={act.isPending}>
            Add remark
          </Button>
        </div>
      </form>
    </section>
  );
}

function Place({ p, remark }: { p: Proposal; remark: Remark }) {
  const key = useShelfKey();
  if (!remark.path) return null;
  const now = remark.now;
  if (now && now.path === null) return <p className="cap">on {remark.path}, which is gone</p>;
  const path = now?.path ?? remark.path;
  const gone = remark.part !== "" && now?.part === null;
  const moved = path !== remark.path || (!gone && now?.part !== remark.part);
  const where = remark.label || now?.label || remark.part;
  const address = `/s/${key}/compare?${new URLSearchParams({ path, from: `commit:${p.base ?? p.head}`, to: `commit:${p.head}`, proposal: String(p.number) })}`;
  return (
    <p className="cap">
      on{" "}
      <Link to={address}>
        {fileName(path)}
        {where ? `, ${where}` : ""}
      </Link>
      {gone ? ", a part that is gone" : moved ? `, which was ${remark.part || remark.path} then` : ""}
    </p>
  );
}

function OneRemark({ p, remark, act }: { p: Proposal; remark: Remark; act: Act }) {
  const key = useShelfKey();
  const me = useMe();
  const [answering, setAnswering] = useState(false);
  const [text, setText] = useState("");
  // Who opened the proposal cannot mark a condition of someone else as met.
  const mine =
    remark.condition && p.created_by === me && remark.person !== me ? false : [remark.person, p.created_by].includes(me) || p.may_change;
  return (
    <article
      className={remark.settled ? "remark done" : "remark"}
      aria-label={`${remark.condition ? "Condition" : "Remark"} by ${remark.person}`}
    >
      <p className="who">
        {remark.condition && <Tick met={Boolean(remark.settled)} />}
        <b>{remark.person}</b>{" "}
        <span className="cap">
          {remark.condition && "condition, "}
          {when(remark.made)}
          {remark.settled && `; marked as ${remark.condition ? "met" : "done"} by ${remark.settled_by}`}
        </span>
      </p>
      <Place p={p} remark={remark} />
      <p className="said">{remark.text}</p>
      {remark.answers.map((a) => (
        <p key={a.id} className="answer">
          <b>{a.person}</b> <span className="cap">{when(a.made)}</span>
          <span className="said">{a.text}</span>
        </p>
      ))}
      {answering && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate(() => remarked(key, p, { text, answer_to: remark.id }), {
              onSuccess: () => {
                setText("");
                setAnswering(false);
              },
            });
          }}
        >
          <Field aria-label="Your answer" rows={2} required value={text} onChange={(e) => setText(e.target.value)} />
          <Button type="submit" variant="outlined" disabled={act.isPending}>
            Answer
          </Button>
        </form>
      )}
      <p className="acts">
        {!answering && <TextAct onClick={() => setAnswering(true)}>Answer</TextAct>}
        {mine && (
          <TextAct
            onClick={() =>
              act.mutate(() =>
                answer(
                  api.PATCH("/shelves/{shelf}/proposals/{number}/remarks/{uid}", {
                    params: { path: { shelf: key, number: p.number, uid: remark.id } },
                    body: { settled: !remark.settled },
                  }),
                ),
              )
            }
          >
            {remark.settled ? (remark.condition ? "Not met after all" : "Reopen") : remark.condition ? "Mark as met" : "Mark as done"}
          </TextAct>
        )}
      </p>
    </article>
  );
}
