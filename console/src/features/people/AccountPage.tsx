/** One's own account: the password and the sessions; for administrators everybody's. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { session } from "../../api/queries";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { Logo } from "../../shell/Page";
import { Person } from "../../shell/Person";
import { Loading, ProblemBox } from "../../shell/states";
import { Backups } from "./Backups";
import { Locations } from "./Locations";
import { accounts } from "./queries";
import { Storage } from "./Storage";

export function AccountPage() {
  const me = useQuery(session()).data;
  useEffect(() => {
    document.title = "Your account · Every Shelf";
  }, []);
  return (
    <>
      <header className="addr">
        <Link to="/" aria-label="All shelves" style={{ display: "flex" }}>
          <Logo />
        </Link>
        <div className="say">
          <b>Your account</b>
        </div>
        <div className="right">
          <Person />
        </div>
      </header>
      <div className="board" />
      <main id="page">
        {me?.person && (
          <>
            <div className="line1">
              <h1>
                {me.person.full_name} signs in as {me.person.name}.
              </h1>
              <span className="end">
                <EndSessions name={me.person.name} own />
              </span>
            </div>
            <ChangePassword />
          </>
        )}
        {me?.admin && (
          <>
            <Accounts own={me.person?.name ?? ""} />
            <Locations />
            <Backups />
            <Storage />
          </>
        )}
      </main>
    </>
  );
}

function ChangePassword() {
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const change = useMutation({
    mutationFn: () => answer(api.PUT("/session/password", { body: { old, new: fresh } })),
    onSuccess: () => {
      setOld("");
      setFresh("");
    },
  });
  return (
    <section className="sheet pad" aria-label="Change your password" style={{ marginBottom: 20 }}>
      <form
        style={{ maxWidth: 380 }}
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <h2>Change your password</h2>
        <p className="sec">All your other sessions end. Tokens go on until you revoke them.</p>
        <div className="fieldrow">
          <Field
            id="old-password"
            label="Password now"
            type="password"
            autoComplete="current-password"
            required
            value={old}
            onChange={(e) => setOld(e.target.value)}
          />
        </div>
        <div className="fieldrow">
          <Field
            id="new-password"
            label="New password, at least 10 characters"
            type="password"
            autoComplete="new-password"
            required
            minLength={10}
            value={fresh}
            onChange={(e) => setFresh(e.target.value)}
          />
        </div>
        {change.isError && <ProblemBox error={change.error} />}
        {change.isSuccess && <p role="status">Your password is changed.</p>}
        <div className="acts">
          <Button type="submit" variant="contained" disabled={change.isPending}>
            Change password
          </Button>
        </div>
      </form>
    </section>
  );
}

function EndSessions({ name, own = false }: { name: string; own?: boolean }) {
  const end = useMutation({
    mutationFn: () => answer(api.DELETE("/people/{name}/sessions", { params: { path: { name } } })),
  });
  return (
    <>
      {end.data && (
        <span role="status" className="sec">
          {count(end.data.ended, "session")} ended{" "}
        </span>
      )}
      <Ask
        label={own ? "Sign out everywhere else" : "End sessions"}
        aria-label={own ? undefined : `End sessions of ${name}`}
        title={own ? "Sign out everywhere else" : `End the sessions of ${name}`}
        does={
          own
            ? "You are signed out in every browser but this one. Tokens stay valid."
            : `${name} is signed out in every browser. Tokens stay valid; drafts are kept.`
        }
        act={own ? "Sign out everywhere else" : "End them"}
        onAct={() => end.mutateAsync()}
      />
    </>
  );
}

function Accounts({ own }: { own: string }) {
  const found = useQuery(accounts());
  const queries = useQueryClient();
  const done = useDone();
  const set = useMutation({
    mutationFn: ({ name, active }: { name: string; active: boolean }) =>
      answer(api.PATCH("/people/{name}", { params: { path: { name } }, body: { active } })),
    onSuccess: (_, { name, active }) =>
      done({
        said: active ? `${name} can sign in again.` : `${name} can no longer sign in.`,
        undo: () => answer(api.PATCH("/people/{name}", { params: { path: { name } }, body: { active: !active } })),
      }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["accounts"] }),
  });
  return (
    <>
      <div className="line1">
        <h2>{found.data ? `${count(found.data.length, "account")} on this installation` : "Accounts"}</h2>
      </div>
      {found.isPending && <Loading what="Reading the accounts" />}
      {(found.isError || set.isError) && <ProblemBox error={found.error ?? set.error} />}
      {found.data && (
        <section className="sheet scroll" aria-label="Accounts">
          <Table>
            <thead>
              <tr>
                <th>Person</th>
                <th>Signs in as</th>
                <th>State</th>
                <th>Signed in last</th>
                <th>
                  <span className="sr">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {found.data.map((a) => (
                <tr key={a.name}>
                  <td>
                    <b>{a.full_name}</b>
                  </td>
                  <td className="mono">{a.name}</td>
                  <td>{a.active ? (a.admin ? "● administrator" : "● active") : "○ disabled"}</td>
                  <td>{when(a.last_signed_in) || "never"}</td>
                  <td style={{ display: "flex", gap: 16 }}>
                    <ResetPassword name={a.name} />
                    <EndSessions name={a.name} />
                    {a.name !== own && (
                      <TextAct
                        aria-label={`${a.active ? "Disable" : "Enable"} ${a.name}`}
                        onClick={() => set.mutate({ name: a.name, active: !a.active })}
                      >
                        {a.active ? "Disable" : "Enable"}
                      </TextAct>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
    </>
  );
}

function ResetPassword({ name }: { name: string }) {
  const dialog = useSheet();
  const reset = useMutation({
    mutationFn: () => answer(api.POST("/people/{name}/password", { params: { path: { name } } })),
  });
  return (
    <>
      <TextAct
        aria-label={`Reset password of ${name}`}
        onClick={() => {
          reset.reset();
          dialog.show();
        }}
      >
        Reset password
      </TextAct>
      <Sheet of={dialog} label={`Reset the password of ${name}`} onClose={() => reset.reset()}>
        <h2>Reset the password of {name}</h2>
        {reset.data ? (
          <>
            <p className="sec">Give it to them now; it is not shown again. Their sessions ended.</p>
            <Field mono aria-label="The new password" readOnly value={reset.data.password} onFocus={(e) => e.target.select()} />
            <div className="acts">
              <Button variant="contained" onClick={() => dialog.hide()}>
                Done
              </Button>
            </div>
          </>
        ) : (
          <>
            <p className="sec">They get a random password, and their sessions end. Their tokens go on.</p>
            {reset.isError && <ProblemBox error={reset.error} />}
            <div className="acts">
              <Button onClick={() => dialog.hide()}>Cancel</Button>
              <Button variant="contained" disabled={reset.isPending} onClick={() => reset.mutate()}>
                Reset it
              </Button>
            </div>
          </>
        )}
      </Sheet>
    </>
  );
}
