/** One's own tokens: made with scope and expiry, shown once, revoked at once. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../../api/client";
import { count, when } from "../../marks/words";
import { Ask } from "../../parts/Ask";
import { CheckField } from "../../parts/CheckField";
import { CopyButton } from "../../parts/Copying";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { Logo } from "../../shell/Page";
import { Person } from "../../shell/Person";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { tokens } from "./queries";

type Scope = Schemas["NewTokenRequest"]["scopes"][number];

const SCOPES: [Scope, string][] = [
  ["read", "see, compare, download"],
  ["write", "drafts, commits, branches, proposals, experiments"],
  ["promote", "tags, environments, promotions"],
  ["admin", "people and settings of shelves"],
];

export function TokensPage() {
  const queries = useQueryClient();
  const found = useQuery(tokens());
  const revoke = async (name: string) => {
    await answer(api.DELETE("/tokens/{name}", { params: { path: { name } } }));
    await queries.invalidateQueries({ queryKey: ["tokens"] });
  };
  useEffect(() => {
    document.title = "Tokens · Every Shelf";
  }, []);
  return (
    <>
      <header className="addr">
        <Link to="/" aria-label="All shelves" style={{ display: "flex" }}>
          <Logo />
        </Link>
        <div className="say">
          <b>Your tokens</b>
        </div>
        <div className="right">
          <Person />
        </div>
      </header>
      <div className="board" />
      <main id="page">
        <div className="line1">
          <h1>{found.data ? `${count(found.data.length, "token")} can act for you.` : "Your tokens"}</h1>
          <span className="end">
            <MakeToken />
          </span>
        </div>
        {found.isPending && <Loading what="Reading your tokens" />}
        {found.isError && <ProblemBox error={found.error} />}
        {found.data?.length === 0 && (
          <Empty>
            A token lets the command line or a program of yours act for you, as far as its scopes reach. everyshelf connect makes one by
            itself.
          </Empty>
        )}
        {found.data && found.data.length > 0 && (
          <section className="sheet scroll" aria-label="Tokens">
            <Table>
              <thead>
                <tr>
                  <th>Name</th>
                  <th>Begins</th>
                  <th>Scopes</th>
                  <th>Made</th>
                  <th>Expires</th>
                  <th>Used last</th>
                  <th>
                    <span className="sr">Action</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {found.data.map((t) => (
                  <tr key={t.name}>
                    <td>
                      <b>{t.name}</b>
                    </td>
                    <td className="mono">{t.beginning}…</td>
                    <td>{t.scopes.join(", ")}</td>
                    <td>{when(t.created)}</td>
                    <td title={t.expires ?? ""}>{t.expires ? when(t.expires) : "never"}</td>
                    <td>{when(t.last_used) || "never"}</td>
                    <td>
                      <Ask
                        label="Revoke"
                        aria-label={`Revoke ${t.name}`}
                        title={`Revoke ${t.name}`}
                        does={`Programs that use it are refused from then on${t.last_used ? `; it was used last ${when(t.last_used)}` : ""}. A revoked token cannot be used again: make a new one.`}
                        act="Revoke the token"
                        onAct={() => revoke(t.name)}
                      />
                    </td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </section>
        )}
      </main>
    </>
  );
}

function MakeToken() {
  const queries = useQueryClient();
  const dialog = useSheet();
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState<Scope[]>(["read"]);
  const [days, setDays] = useState(90);
  const make = useMutation({
    mutationFn: () => answer(api.POST("/tokens", { body: { name, scopes: chosen, days } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <>
      <Button
        variant="contained"
        onClick={() => {
          make.reset();
          setName("");
          dialog.show();
        }}
      >
        Make a token
      </Button>
      <Sheet of={dialog} label="Make a token" onClose={() => make.reset()}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Make a token</h2>
          {make.data ? (
            <>
              <p className="sec">
                {make.data.name} can {make.data.scopes.join(", ")} for {count(days, "day")}. Copy it now; it is not shown again.
              </p>
              <Field mono aria-label="The token" readOnly rows={2} value={make.data.value} onFocus={(e) => e.target.select()} />
              <div className="acts">
                <CopyButton text={make.data.value}>Copy it</CopyButton>
                <Button variant="contained" onClick={() => dialog.hide()}>
                  Done
                </Button>
              </div>
            </>
          ) : (
            <>
              <Field id="token-name" label="Name" required maxLength={100} value={name} onChange={(e) => setName(e.target.value)} />
              <fieldset style={{ border: 0, marginTop: 10 }}>
                <legend className="sm sec">What it may do</legend>
                {SCOPES.map(([scope, what]) => (
                  <CheckField
                    key={scope}
                    checked={chosen.includes(scope)}
                    onChange={(e) => setChosen(e.target.checked ? [...chosen, scope] : chosen.filter((s) => s !== scope))}
                  >
                    <b>{scope}</b> {what}
                  </CheckField>
                ))}
              </fieldset>
              <Field
                id="token-days"
                label="Lasts for days"
                type="number"
                min={1}
                max={3650}
                value={days}
                onChange={(e) => setDays(Number(e.target.value))}
              />
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts">
                <Button onClick={() => dialog.hide()}>Cancel</Button>
                <Button type="submit" variant="contained" disabled={make.isPending || chosen.length === 0}>
                  Make the token
                </Button>
              </div>
            </>
          )}
        </form>
      </Sheet>
    </>
  );
}
