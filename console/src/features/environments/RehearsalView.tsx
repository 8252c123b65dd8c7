import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import type { Rehearsal } from "../../api/queries";
import { Effect, Mark, Tick } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Table } from "../../parts/Table";
import { LongTable } from "../../shell/LongTable";
import { useShelfKey } from "../../shell/Page";
import { SaveReport } from "../../shell/SaveReport";
import { ProblemBox } from "../../shell/states";
import type { Panel } from "./panels";

export interface Said {
  reason: string;
  overwrite_drift: boolean;
  lose: string[];
  force: boolean;
}

interface RehearsalProps {
  rehearsal: Rehearsal;
  busy: boolean;
  onAgain: () => void;
  onPanel: (panel: Panel) => void;
  onPromote: (said: Said) => void;
}

export function RehearsalView({ rehearsal: r, busy, onAgain, onPanel, onPromote }: RehearsalProps) {
  const key = useShelfKey();
  return (
    <section className="sheet" aria-label="Rehearsal">
      <div className="ph">
        <h2 className="h3">Rehearsal</h2>
        <span className="cap">
          tag:{r.tag} into {r.environment}, {when(r.rehearsed)}, took {r.took_seconds.toFixed(1)} s, nothing touched
        </span>
        <span className="r">
          <SaveReport report={`shelves/${key}/environments/${r.environment}/report`} query={{ tag: r.tag }} />
        </span>
      </div>
      <p className="pad" style={{ font: "400 17px/24px var(--serif)" }}>
        {r.sentence}
      </p>
      <div className="cols2" style={{ gridTemplateColumns: "minmax(0,1fr) 300px", gap: 0 }}>
        <WhatChanges rehearsal={r} />
        <ToSatisfy rehearsal={r} busy={busy} onAgain={onAgain} onPanel={onPanel} onPromote={onPromote} />
      </div>
    </section>
  );
}

function WhatChanges({ rehearsal: r }: { rehearsal: Rehearsal }) {
  return (
    <LongTable
      caption="What would change"
      maxHeight="420px"
      columns={4}
      count={r.artifacts.length}
      head={
        <tr>
          <th>Would be</th>
          <th>Artifact</th>
          <th>What changes there</th>
          <th>Effect</th>
        </tr>
      }
      row={(index, place) => {
        const a = r.artifacts[index];
        return (
          a && (
            <tr key={a.path} {...place}>
              <td>
                <Mark action={a.state} /> {a.state}
              </td>
              <td title={a.path}>
                <KindIcon kind={a.kind} /> <b>{a.name}</b>
              </td>
              <td className="sec" style={{ maxWidth: 420, overflow: "hidden", textOverflow: "ellipsis" }} title={a.headline}>
                {a.headline}
              </td>
              <td>
                <Effect effect={a.effect} />
              </td>
            </tr>
          )
        );
      }}
    >
      {r.artifacts.length === 0 && <p className="empty">Nothing to do: the environment already matches the tag.</p>}
      {r.steps.length > 0 && <Steps steps={r.steps} title={`Done in ${r.environment}, in one transaction`} />}
    </LongTable>
  );
}

const DONE = { created: "added", altered: "changed", removed: "removed" } as const;

/** What is done to a database: created, altered and removed, in that order; what would be gone for good stands out. */
export function Steps({ steps, title }: { steps: Rehearsal["steps"]; title: string }) {
  return (
    <Table>
      <caption className="cap" style={{ textAlign: "left", padding: "10px 12px 4px" }}>
        {title}
      </caption>
      <thead>
        <tr>
          <th>Is</th>
          <th>What</th>
          <th>Name</th>
          <th>How</th>
        </tr>
      </thead>
      <tbody>
        {steps.map((s) => (
          <tr key={`${s.action} ${s.what} ${s.name} ${s.message}`}>
            <td>
              <Mark action={DONE[s.action]} /> {s.action}
            </td>
            <td className="sec">{s.what}</td>
            <td className="mono">{s.name}</td>
            <td className="sec">
              {s.lost && <b className="lostword">lost </b>}
              {s.message}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function ToSatisfy({ rehearsal: r, busy, onAgain, onPanel, onPromote }: RehearsalProps) {
  const [reason, setReason] = useState("");
  const [agreed, setAgreed] = useState(false);
  const [force, setForce] = useState(false);
  const [given, setGiven] = useState<string[]>([]);
  const gates = r.gates.filter((g) => g.id !== "loss").sort((a, b) => Number(a.met) - Number(b.met));
  const losses = r.steps.filter((s) => s.lost);
  const unlost = losses.filter((s) => !given.includes(s.name));
  const lost = r.drift.filter((d) => d.lost);
  const nothing = r.artifacts.length === 0 && r.drift.length === 0;
  const unbound = r.missing_bindings.length + r.problems.length;
  const held = r.gates.filter((g) => !g.met && !(g.id === "drift" && agreed) && g.id !== "loss");
  const stops = unbound > 0 || unlost.length > 0 || (held.length > 0 && !(force && reason.trim()));
  const names = [...new Set(r.needed.filter((n) => n.on_shelf).map((n) => n.needs))];
  return (
    <div style={{ borderLeft: "1px solid var(--line)" }} className="pad">
      <p className="cap">{held.length + unbound > 0 ? "To satisfy, in this order" : "Gates"}</p>
      {r.missing_bindings.map((m) => (
        <Item
          key={m.name}
          met={false}
          title="Binding without a value"
          said={
            <>
              <span className="mono">{m.name}</span>, for {m.artifacts.map((p) => p.split("/").pop()).join(", ")}
            </>
          }
        >
          <TextAct onClick={() => onPanel("bindings")}>Set the value</TextAct>
        </Item>
      ))}
      {r.problems.map((p) => (
        <Item key={p.path} met={false} title={p.path} said={p.message} />
      ))}
      {r.gates.length === 0 && unbound === 0 && <p className="sec sm">none</p>}
      {gates.map((g) => (
        <Item key={g.gate} met={g.met} title={`${g.gate}${g.met ? ", met" : ", not met"}`} said={g.message}>
          {!g.met && g.action === "review" && <Agree environment={r.environment} tag={r.tag} onGiven={onAgain} />}
          {!g.met && g.action === "capture" && <TextAct onClick={() => onPanel("drift")}>Capture in a draft first</TextAct>}
        </Item>
      ))}
      {r.drift.length > 0 && (
        <p className="cap" style={{ marginTop: 8 }}>
          Changed there since the last deployment
        </p>
      )}
      {r.drift.map((d) => (
        <p key={d.path} style={{ display: "flex", gap: 7, margin: "4px 0" }}>
          <Mark action="changed" />
          <span>
            <b>{d.name}</b>, {d.where}
            {d.by ? ` by ${d.by}` : ""}
            {d.lost ? "; would be lost" : d.brought ? "; the tag has it" : "; stays"}
          </span>
        </p>
      ))}
      {lost.length > 0 && (
        <CheckField checked={agreed} onChange={(e) => setAgreed(e.target.checked)} className="sm">
          Overwrite what was changed there
        </CheckField>
      )}
      {losses.length > 0 && (
        <fieldset className="losses">
          <legend>
            <Tick met={unlost.length === 0} /> <b>Would be permanently lost</b>
          </legend>
          {losses.map((s) => (
            <CheckField
              key={s.name}
              checked={given.includes(s.name)}
              onChange={(e) => setGiven(e.target.checked ? [...given, s.name] : given.filter((n) => n !== s.name))}
              className="sm"
            >
              lose <span className="mono">{s.name}</span>, {s.what} {s.message}
            </CheckField>
          ))}
        </fieldset>
      )}
      {names.length > 0 && (
        <p className="sm">
          <b>Missing dependencies:</b> {names.join(", ")}
        </p>
      )}
      {r.expected_seconds !== null && (
        <p className="sec sm">Takes about {r.expected_seconds < 1 ? "a second" : `${Math.round(r.expected_seconds)} s`}.</p>
      )}
      <Field id="reason" label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
      {held.length > 0 && unbound === 0 && (
        <CheckField checked={force} onChange={(e) => setForce(e.target.checked)} className="sm">
          Force {held.length === 1 ? "the gate" : "the gates"}, with the reason above (owners)
        </CheckField>
      )}
      <Button
        variant="contained"
        disabled={busy || stops || nothing}
        onClick={() => onPromote({ reason, overwrite_drift: agreed, lose: given, force: force && held.length > 0 })}
      >
        {stops ? "Not ready to promote" : `Promote into ${r.environment}`}
      </Button>
    </div>
  );
}

function Item({ met, title, said, children }: { met: boolean; title: string; said: React.ReactNode; children?: React.ReactNode }) {
  return (
    <div style={{ display: "flex", gap: 7, margin: "5px 0" }}>
      <Tick met={met} />
      <span>
        <b>{title}</b>
        <br />
        <span className="sec sm">{said}</span>
        {children && (
          <>
            <br />
            {children}
          </>
        )}
      </span>
    </div>
  );
}

function Agree({ environment, tag, onGiven }: { environment: string; tag: string; onGiven: () => void }) {
  const key = useShelfKey();
  const give = useMutation({
    mutationFn: (agrees: boolean) =>
      answer(
        api.POST("/shelves/{shelf}/environments/{name}/reviews", {
          params: { path: { shelf: key, name: environment } },
          body: { tag, agrees },
        }),
      ),
    onSuccess: onGiven,
  });
  return (
    <>
      <TextAct disabled={give.isPending} onClick={() => give.mutate(true)}>
        I agree
      </TextAct>{" "}
      <TextAct disabled={give.isPending} onClick={() => give.mutate(false)}>
        Against
      </TextAct>
      {give.isError && <ProblemBox error={give.error} />}
    </>
  );
}
