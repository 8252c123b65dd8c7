/** One's own tokens: made with scope and expiry, shown once, revoked at once. */
import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { type Schemas, send } from "../../api/client";
import { count, when } from "../../marks/words";
import { Logo } from "../../shell/Page";
import { Person } from "../../shell/Person";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { tokens } from "./queries";

const SCOPES: [string, string][] = [
  ["read", "see, compare, download"],
  ["write", "drafts, commits, branches, proposals, experiments"],
  ["promote", "tags, environments, promotions"],
  ["admin", "people and settings of shelves"],
];

export function TokensPage() {
  const queries = useQueryClient();
  const found = useQuery(tokens());
  const revoke = useMutation({
    mutationFn: (name: string) => send("DELETE", `tokens/${encodeURIComponent(name)}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
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
      <main>
        <div className="line1">
          <h1>{found.data ? `${count(found.data.length, "token")} can act for you.` : "Your tokens"}</h1>
          <span className="end">
            <MakeToken />
          </span>
        </div>
        {found.isPending && <Loading what="Reading your tokens" />}
        {(found.isError || revoke.isError) && <ProblemBox error={found.error ?? revoke.error} />}
        {found.data?.length === 0 && (
          <Empty>
            A token lets the command line or a program of yours act for you, as far as its scopes reach. everyshelf connect makes one by
            itself.
          </Empty>
        )}
        {found.data && found.data.length > 0 && (
          <section className="sheet scroll" aria-label="Tokens">
            <table>
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
                      <button type="button" className="plainbtn" aria-label={`Revoke ${t.name}`} onClick={() => revoke.mutate(t.name)}>
                        Revoke
                      </button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )}
      </main>
    </>
  );
}

function MakeToken() {
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState(["read"]);
  const [days, setDays] = useState(90);
  const make = useMutation({
    mutationFn: () => send<Schemas["TokenMade"]>("POST", "tokens", { name, scopes: chosen, days }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <>
      <Button
        variant="contained"
        onClick={() => {
          make.reset();
          setName("");
          dialog.current?.showModal();
        }}
      >
        Make a token
      </Button>
      <dialog ref={dialog} aria-label="Make a token" onClose={() => make.reset()}>
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
              <textarea
                className="inp mono"
                aria-label="The token"
                readOnly
                rows={2}
                value={make.data.value}
                onFocus={(e) => e.target.select()}
              />
              <div className="acts">
                <Button onClick={() => void navigator.clipboard?.writeText(make.data.value)}>Copy it</Button>
                <Button variant="contained" onClick={() => dialog.current?.close()}>
                  Done
                </Button>
              </div>
            </>
          ) : (
            <>
              <label htmlFor="token-name">Name</label>
              <input id="token-name" className="inp" required maxLength={100} value={name} onChange={(e) => setName(e.target.value)} />
              <fieldset style={{ border: 0, marginTop: 10 }}>
                <legend className="sm sec">What it may do</legend>
                {SCOPES.map(([scope, what]) => (
                  <label key={scope}>
                    <input
                      type="checkbox"
                      checked={chosen.includes(scope)}
                      onChange={(e) => setChosen(e.target.checked ? [...chosen, scope] : chosen.filter((s) => s !== scope))}
                    />{" "}
                    <b>{scope}</b> {what}
                  </label>
                ))}
              </fieldset>
              <label htmlFor="token-days">Lasts for days</label>
              <input
                id="token-days"
                className="inp"
                type="number"
                min={1}
                max={3650}
                value={days}
                onChange={(e) => setDays(Number(e.target.value))}
              />
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts">
                <Button onClick={() => dialog.current?.close()}>Cancel</Button>
                <Button type="submit" variant="contained" disabled={make.isPending || chosen.length === 0}>
                  Make the token
                </Button>
              </div>
            </>
          )}
        </form>
      </dialog>
    </>
  );
}
