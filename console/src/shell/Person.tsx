/** Who is signed in, the colour scheme, and signing out. */
import { useColorScheme } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { send } from "../api/client";
import { session } from "../api/queries";

export function Person() {
  const who = useQuery(session()).data?.person;
  const queries = useQueryClient();
  const { mode, setMode } = useColorScheme();
  const [open, setOpen] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const away = (event: MouseEvent) => !box.current?.contains(event.target as Node) && setOpen(false);
    document.addEventListener("mousedown", away);
    return () => document.removeEventListener("mousedown", away);
  }, []);
  if (!who) return null;
  const signOut = async () => {
    await send("DELETE", "session");
    queries.clear();
    window.location.assign("/");
  };
  return (
    <div ref={box} style={{ position: "relative" }} onKeyDown={(e) => e.key === "Escape" && setOpen(false)}>
      <button
        type="button"
        className="me"
        aria-label={`${who.full_name.slice(0, 2)}, ${who.full_name}: settings and sign out`}
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {who.full_name.slice(0, 2)}
      </button>
      {open && (
        <div className="menu" style={{ right: 0, top: 34, minWidth: 200 }}>
          <div className="cap">{who.full_name}</div>
          <Link className="it" to="/account">
            Your account
          </Link>
          <Link className="it" to="/tokens">
            Your tokens
          </Link>
          {(["light", "dark", "system"] as const).map((m) => (
            <button key={m} type="button" className="it" aria-pressed={mode === m} onClick={() => setMode(m)}>
              {mode === m ? <b>{`Colours: ${m}`}</b> : `Colours: ${m}`}
            </button>
          ))}
          <button type="button" className="it" onClick={() => void signOut()}>
            Sign out
          </button>
        </div>
      )}
    </div>
  );
}
