import { Button } from "@mui/material";
import { useState } from "react";
import type { Rehearsal } from "../../api/queries";
import { Effect, Mark, Tick } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { when } from "../../marks/words";

export function RehearsalView({ rehearsal: r, busy, onPromote }: { rehearsal: Rehearsal; busy: boolean; onPromote: (why: string, overwrite: boolean) => void }) {
  const [why, setWhy] = useState("");
  const lost = r.drift.filter((d) => d.lost);
  const [agreed, setAgreed] = useState(false);
  const nothing = r.artifacts.length === 0 && r.drift.length === 0;
  const held = r.holds > 0 || (lost.length > 0 && !agreed);
  return (
    <section className="sheet" aria-label="Rehearsal">
      <div className="ph"><h3>Rehearsal</h3><span className="cap">tag:{r.tag} into {r.environment}, {when(r.rehearsed)}, nothing touched</span></div>
      <p className="pad" style={{ font: "400 17px/24px var(--serif)" }}>{r.sentence}</p>
      <div className="cols2" style={{ gridTemplateColumns: "minmax(0,1fr) 280px", gap: 0 }}>
        <div className="scroll" style={{ maxHeight: 330, overflow: "auto" }} tabIndex={0} role="region" aria-label="What would change">
          <table>
            <caption className="sr">What would change</caption>
            <thead><tr><th>Would be</th><th>Artifact</th><th>What changes there</th><th>Effect</th></tr></thead>
            <tbody>
              {r.artifacts.map((a) => (
                <tr key={a.path}>
                  <td><Mark action={a.state} /> {a.state}</td>
                  <td title={a.path}><KindIcon kind={a.kind} /> <b>{a.name}</b></td>
                  <td className="sec" style={{ maxWidth: 420, overflow: "hidden", textOverflow: "ellipsis" }} title={a.headline}>{a.headline}</td>
                  <td><Effect effect={a.effect} /></td>
                </tr>
              ))}
            </tbody>
          </table>
          {r.artifacts.length === 0 && <p className="empty">Everything there is as the tag has it.</p>}
        </div>
        <div style={{ borderLeft: "1px solid var(--line)" }} className="pad">
          <p className="cap">Gates</p>
          {r.gates.length === 0 && <p className="sec sm">none</p>}
          {r.gates.map((g) => (
            <p key={g.gate} style={{ display: "flex", gap: 7, margin: "4px 0" }}><Tick met={g.met} /><span><b>{g.gate}</b>{g.met ? ", met" : ", holds"}<br /><span className="sec sm">{g.said}</span></span></p>
          ))}
          {r.drift.length > 0 && <p className="cap" style={{ marginTop: 8 }}>Changed there since the last deployment</p>}
          {r.drift.map((d) => (
            <p key={d.path} style={{ display: "flex", gap: 7, margin: "4px 0" }}><Mark action="changed" /><span><b>{d.name}</b>, {d.where}{d.lost ? "; would be lost" : ""}</span></p>
          ))}
          {lost.length > 0 && <label className="sm"><input type="checkbox" checked={agreed} onChange={(e) => setAgreed(e.target.checked)} /> Overwrite what was changed there</label>}
          <label htmlFor="why" className="cap" style={{ display: "block", marginTop: 10 }}>Why</label>
          <input id="why" className="inp" style={{ width: "100%", marginBottom: 8 }} value={why} onChange={(e) => setWhy(e.target.value)} />
          <Button variant="contained" disabled={busy || held || nothing} onClick={() => onPromote(why, agreed)}>{held ? "Promote, held" : `Promote into ${r.environment}`}</Button>
        </div>
      </div>
    </section>
  );
}
