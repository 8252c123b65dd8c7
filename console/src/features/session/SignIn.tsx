/** Signing in: on a page of its own, and again over the page on which a session ended. */
import { Button } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useState } from "react";
import { answer, api, SIGNED_IN } from "../../api/client";
import { Field } from "../../parts/Field";
import { Sheet } from "../../parts/Sheet";
import { Logo } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

interface FormProps {
  /** The one person who may sign in; anyone if left out. */
  person?: string;
  className?: string;
  children: ReactNode;
  onDone: () => Promise<void>;
}

function SignInForm({ person, className, children, onDone }: FormProps) {
  const [name, setName] = useState(person ?? "");
  const [password, setPassword] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      await answer(api.POST("/session", { body: { name, password } }));
      await onDone();
    } catch (error) {
      setProblem(error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <form className={className} onSubmit={(e) => void submit(e)}>
      {children}
      <Field
        id="name"
        label="Name"
        wide
        autoComplete="username"
        required
        readOnly={person !== undefined}
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <Field
        id="password"
        label="Password"
        wide
        type="password"
        autoComplete="current-password"
        autoFocus={person !== undefined}
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
  );
}

export function SignIn() {
  const queries = useQueryClient();
  return (
    <main id="page">
      <SignInForm className="sheet signin" onDone={() => queries.invalidateQueries({ queryKey: ["session"] })}>
        <div style={{ display: "flex", gap: 12, alignItems: "center", color: "var(--accent)", marginBottom: 10 }}>
          <span className="addr" style={{ padding: 0, minHeight: 0, background: "none" }}>
            <Logo />
          </span>
          <h1 style={{ color: "var(--ink)" }}>Every Shelf</h1>
        </div>
        <p className="sec sm">Sign in to see your shelves.</p>
      </SignInForm>
    </main>
  );
}

/** Over the page, which stays as it is: what was being typed is not lost with the session. */
export function SignInAgain({ person }: { person: string }) {
  const queries = useQueryClient();
  const done = async () => {
    await queries.invalidateQueries({ queryKey: ["session"] });
    window.dispatchEvent(new Event(SIGNED_IN));
    // Only failed queries run again: a fresh answer would replace what someone types in an editor.
    await queries.refetchQueries({ predicate: (query) => query.state.status === "error" });
  };
  return (
    <Sheet of={STAYS} label="Sign in again">
      <SignInForm person={person} onDone={done}>
        <h2>You were signed out</h2>
        <p>The page stays as it is. Sign in to go on; what you wrote is saved then.</p>
        <p className="cap">
          Not you? <a href="/">Leave this page</a>
        </p>
      </SignInForm>
    </Sheet>
  );
}

const STAYS = { shown: true, show: () => undefined, hide: () => undefined };
