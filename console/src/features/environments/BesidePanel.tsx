import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import type { Environment } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { Choice } from "../../parts/Choice";
import { LongTable } from "../../shell/LongTable";
import { useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";

/** Two environments beside each other, by what is really there. */
export function BesidePanel({ environment: e, all }: { environment: Environment; all: Environment[] }) {
  const key = useShelfKey();
  const others = all.filter((o) => o.name !== e.name);
  const [chosen, setChosen] = useState(others.find((o) => o.route === e.route)?.name ?? others[0]?.name ?? "");
  const found = useQuery({
    queryKey: ["shelf", key, "environments", e.name, "beside", chosen],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/environments/{name}/beside/{other}", { params: { path: { shelf: key, name: e.name, other: chosen } } }),
      ),
    enabled: chosen !== "",
  });
  const places = { added: `only in ${chosen}`, removed: `only in ${e.name}`, changed: "differs" };
  return (
    <section className="sheet" aria-label={`${e.name} beside another environment`}>
      <div className="ph">
        <h2 className="h3">{e.name} beside</h2>
        <Choice aria-label="The other environment" value={chosen} onChange={(ev) => setChosen(ev.target.value)}>
          {others.map((o) => (
            <option key={o.name}>{o.name}</option>
          ))}
        </Choice>
        <span className="cap">by what is really there; secrets are names</span>
      </div>
      {others.length === 0 && <p className="empty">There is no other environment.</p>}
      {chosen && found.isPending && <Loading what={`Looking into ${e.name} and ${chosen}`} />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && (
        <p className="pad" style={{ font: "400 17px/24px var(--serif)" }}>
          {found.data.sentence}
        </p>
      )}
      {found.data && found.data.artifacts.length > 0 && (
        <LongTable
          caption={`What differs between ${e.name} and ${chosen}`}
          maxHeight="520px"
          columns={4}
          count={found.data.artifacts.length}
          head={
            <tr>
              <th>Is</th>
              <th>Artifact</th>
              <th>What differs</th>
              <th>Effect</th>
            </tr>
          }
          row={(index, place) => {
            const a = found.data.artifacts[index];
            return (
              a && (
                <tr key={a.path} {...place}>
                  <td>
                    <Mark action={a.state} /> {places[a.state]}
                  </td>
                  <td title={a.path}>
                    {a.state === "changed" && <KindIcon kind={a.kind} />} <b>{a.name}</b>
                  </td>
                  <td className="sec">{a.headline}</td>
                  <td>{a.state === "changed" && <Effect effect={a.effect} />}</td>
                </tr>
              )
            );
          }}
        />
      )}
    </section>
  );
}
