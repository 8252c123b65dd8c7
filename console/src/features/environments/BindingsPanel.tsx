import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import type { Environment } from "../../api/queries";
import { Tick } from "../../marks/Mark";
import { when } from "../../marks/words";
import { Field } from "../../parts/Field";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";

type Binding = Schemas["BindingOut"];
const BINDINGS = "/shelves/{shelf}/environments/{name}/bindings";

/** The values that differ per environment; a secret one goes in and is never shown. */
export function BindingsPanel({ environment: e }: { environment: Environment }) {
  const key = useShelfKey();
  const of = { shelf: key, name: e.name };
  const found = useQuery({
    queryKey: ["shelf", key, "environments", e.name, "bindings"],
    queryFn: () => answer(api.GET(BINDINGS, { params: { path: of } })),
  });
  if (found.isPending) return <Loading what="Reading the bindings" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const unset = found.data.filter((b) => !b.set).length;
  return (
    <section className="sheet" aria-label={`Bindings of ${e.name}`}>
      <div className="ph">
        <h2 className="h3">Bindings of {e.name}</h2>
        <span className="cap">declared in shelf.toml; put in when a tag goes there</span>
      </div>
      <p className="pad" style={{ font: "400 17px/24px var(--serif)" }}>
        {found.data.length === 0
          ? "No binding is declared: shelf.toml, [bindings] says which values differ here."
          : unset
            ? `${unset} of ${found.data.length} without a value.`
            : `All ${found.data.length} have a value.`}
      </p>
      {found.data.length > 0 && (
        <Table>
          <caption className="sr">Bindings</caption>
          <thead>
            <tr>
              <th>Name</th>
              <th>Value</th>
              <th>For</th>
              <th>Set</th>
              <th>New value</th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((b) => (
              <Row key={b.name} binding={b} of={of} />
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}

function Row({ binding: b, of }: { binding: Binding; of: { shelf: string; name: string } }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const [value, setValue] = useState("");
  const done = useDone();
  const was = b.value;
  // What a secret one was cannot be read, and so not be put back.
  const back = !b.set
    ? () => answer(api.DELETE(BINDINGS, { params: { path: of, query: { name: b.name } } }))
    : b.secret
      ? undefined
      : () => answer(api.PUT(BINDINGS, { params: { path: of }, body: { name: b.name, value: was ?? "" } }));
  const set = useMutation({
    mutationFn: () => answer(api.PUT(BINDINGS, { params: { path: of }, body: { name: b.name, value } })),
    onSuccess: async () => {
      setValue("");
      done({ said: `${b.name} has a new value.`, undo: back });
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <tr>
      <td className="mono">
        <b>{b.name}</b>
      </td>
      <td>
        {b.set ? (
          b.secret ? (
            <span className="sec">secret, kept encrypted</span>
          ) : (
            <span className="mono">{b.value}</span>
          )
        ) : (
          <b>
            <Tick met={false} /> none
          </b>
        )}
      </td>
      <td className="sec">{b.artifacts.join(", ") || "nothing declares it"}</td>
      <td className="sec">{b.set_at ? `${when(b.set_at)}, ${b.set_by}` : ""}</td>
      <td>
        <form
          style={{ display: "flex", gap: 6 }}
          onSubmit={(ev) => {
            ev.preventDefault();
            set.mutate();
          }}
        >
          <Field
            aria-label={`New value of ${b.name}`}
            type={b.secret ? "password" : "text"}
            autoComplete="off"
            value={value}
            onChange={(ev) => setValue(ev.target.value)}
          />
          <Button type="submit" size="small" variant="outlined" disabled={!value || set.isPending}>
            Set
          </Button>
        </form>
        {set.isError && <ProblemBox error={set.error} />}
      </td>
    </tr>
  );
}
