/** Taking an invitation up: as who is signed in, or as somebody new. The secret is behind the #, so no server log has it. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { session } from "../../api/queries";
import { when } from "../../marks/words";
import { Field } from "../../parts/Field";
import { Logo } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";

export function JoinPage() {
  const invitation = window.location.hash.slice(1);
  const queries = useQueryClient();
  const me = useQuery(session()).data?.person;
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [password, setPassword] = useState("");
  const seen = useQuery({
    queryKey: ["invitation", invitation],
    queryFn: () => answer(api.POST("/invitations/look", { body: { invitation } })),
    retry: false,
  });
  const accept = useMutation({
    mutationFn: () =>
      answer(api.POST("/invitations/accept", { body: me ? { invitation } : { invitation, name, full_name: fullName, password } })),
    onSuccess: async (joined) => {
      await queries.invalidateQueries();
      window.location.assign(`/s/${joined.shelf}`);
    },
  });
  return (
    <main id="page">
      <form
        className="sheet signin"
        onSubmit={(e) => {
          e.preventDefault();
          accept.mutate();
        }}
      >
        <div style={{ display: "flex", gap: 12, alignItems: "center", color: "var(--accent)", marginBottom: 10 }}>
          <span className="addr" style={{ padding: 0, minHeight: 0, background: "none" }}>
            <Logo />
          </span>
          <h1 style={{ color: "var(--ink)" }}>{seen.data ? `Join ${seen.data.shelf_name}` : "An invitation"}</h1>
        </div>
        {seen.isPending && <Loading what="Looking at the invitation" />}
        {seen.isError && <ProblemBox error={seen.error} />}
        {seen.data && (
          <>
            <p className="sec sm">
              {seen.data.by} invites you as {seen.data.role}. Valid until {when(seen.data.expires)}.
            </p>
            {!me && (
              <>
                <Field
                  id="join-name"
                  label="Sign-in name you choose"
                  wide
                  autoComplete="username"
                  required
                  pattern="[a-z0-9][a-z0-9._\-]*"
                  title="Lower-case letters, digits, dots and dashes"
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                />
                <Field
                  id="join-full"
                  label="Your name"
                  wide
                  autoComplete="name"
                  value={fullName}
                  onChange={(e) => setFullName(e.target.value)}
                />
                <Field
                  id="join-password"
                  label="A password of at least ten characters"
                  wide
                  type="password"
                  autoComplete="new-password"
                  required
                  minLength={10}
                  value={password}
                  onChange={(e) => setPassword(e.target.value)}
                />
                <p className="cap" style={{ marginTop: 6 }}>
                  You have a name here already? <a href="/">Sign in</a> first, then open the link again.
                </p>
              </>
            )}
            {accept.isError && <ProblemBox error={accept.error} />}
            <div style={{ marginTop: 16 }}>
              <Button type="submit" variant="contained" disabled={accept.isPending}>
                {me ? `Join as ${me.full_name}` : "Join"}
              </Button>
            </div>
          </>
        )}
      </form>
    </main>
  );
}
