import { Button } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { Field } from "../../parts/Field";
import { Logo } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

export function SignIn() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const submit = async (event: React.FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      await answer(api.POST("/session", { body: { name, password } }));
      await queries.invalidateQueries({ queryKey: ["session"] });
    } catch (error) {
      setProblem(error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <main id="page">
      <form className="sheet signin" onSubmit={(e) => void submit(e)}>
        <div style={{ display: "flex", gap: 12, alignItems: "center", color: "var(--accent)", marginBottom: 10 }}>
          <span className="addr" style={{ padding: 0, minHeight: 0, background: "none" }}>
            <Logo />
          </span>
          <h1 style={{ color: "var(--ink)" }}>Every Shelf</h1>
        </div>
        <p className="sec sm">Sign in to see your shelves.</p>
        <Field id="name" label="Name" wide autoComplete="username" required value={name} onChange={(e) => setName(e.target.value)} />
        <Field
          id="password"
          label="Password"
          wide
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        {problem !== null && <ProblemBox error={problem} />}
        <div style={{ marginTop: 16 }}>
          <Button type="submit" variant="contained" disabled={busy}>
            Sign in
          </Button>
        </div>
      </form>
    </main>
  );
}
