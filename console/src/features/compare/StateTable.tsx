import type { Compared } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { TextAct } from "../../parts/Acts";
import { LongTable } from "../../shell/LongTable";

export function StateTable({ artifacts, onOpen }: { artifacts: Compared[]; onOpen: (path: string) => void }) {
  if (artifacts.length === 0) return <p className="empty sheet">No artifact with such a finding.</p>;
  return (
    <LongTable
      caption="Artifacts that differ"
      className="sheet scroll"
      maxHeight="calc(100vh - 230px)"
      columns={6}
      count={artifacts.length}
      head={
        <tr>
          <th>State</th>
          <th>Kind</th>
          <th>Artifact</th>
          <th>Versions</th>
          <th>Effect</th>
          <th>What changed</th>
        </tr>
      }
      row={(index, place) => {
        const a = artifacts[index];
        return (
          a && (
            <tr key={a.path} {...place}>
              <td>
                <Mark action={a.state} /> {a.state}
              </td>
              <td>
                <KindIcon kind={a.kind} /> <span className="sec">{a.kind}</span>
              </td>
              <td title={a.path}>
                <TextAct onClick={() => onOpen(a.path)}>
                  <b>{a.name}</b>
                </TextAct>
                {a.old_path !== a.path && <span className="mut"> from {a.old_path}</span>}
              </td>
              <td className="sec">
                {[a.before?.version, a.after?.version]
                  .filter(Boolean)
                  .map((v) => `v${v}`)
                  .join(" → ")}
              </td>
              <td>{a.pending ? <span className="mut">comparing …</span> : <Effect effect={a.effect} judged={a.judged} />}</td>
              <td title={a.note || a.headline} style={{ maxWidth: 470, overflow: "hidden", textOverflow: "ellipsis" }}>
                {a.headline}
              </td>
            </tr>
          )
        );
      }}
    />
  );
}
