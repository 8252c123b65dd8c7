/** Who is signed in, the colour scheme, and signing out. */

import { ListSubheader, Menu, MenuItem } from "@mui/material";
import { useColorScheme } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../api/client";
import { session } from "../api/queries";
import { RowAct } from "../parts/Acts";
import { HelpAct } from "./HelpAct";

export function Person() {
  const who = useQuery(session()).data?.person;
  const queries = useQueryClient();
  const { mode, setMode } = useColorScheme();
  const [open, setOpen] = useState(false);
  const button = useRef<HTMLButtonElement>(null);
  if (!who) return null;
  const signOut = async () => {
    await answer(api.DELETE("/session"));
    queries.clear();
    window.location.assign("/");
  };
  const shut = () => setOpen(false);
  return (
    <>
      <HelpAct />
      <RowAct
        ref={button}
        className="me"
        aria-label={`${who.full_name.slice(0, 2)}, ${who.full_name}: settings and sign out`}
        aria-haspopup="menu"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {who.full_name.slice(0, 2)}
      </RowAct>
      <Menu open={open} onClose={shut} anchorEl={() => button.current}>
        <ListSubheader role="presentation">{who.full_name}</ListSubheader>
        <MenuItem component={Link} to="/account" onClick={shut}>
          Your account
        </MenuItem>
        <MenuItem component={Link} to="/tokens" onClick={shut}>
          Your tokens
        </MenuItem>
        {(["light", "dark", "system"] as const).map((one) => (
          <MenuItem key={one} role="menuitemradio" aria-checked={mode === one} selected={mode === one} onClick={() => setMode(one)}>
            Colours: {one}
          </MenuItem>
        ))}
        <MenuItem onClick={() => void signOut()}>Sign out</MenuItem>
      </Menu>
    </>
  );
}
