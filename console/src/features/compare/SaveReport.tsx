/** A comparison saved as one page: HTML, Markdown or JSON. */
import { Button, Menu, MenuItem } from "@mui/material";
import { useState } from "react";
import { address } from "../../api/client";

const FORMS = [["html", "Web page (.html)"], ["md", "Markdown (.md)"], ["json", "JSON (.json)"]] as const;

export function SaveReport({ shelf, from, to, path, waiting = false }: { shelf: string; from: string; to: string; path?: string; waiting?: boolean }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <Button variant="outlined" aria-haspopup="menu" aria-expanded={anchor !== null} disabled={waiting} onClick={(e) => setAnchor(e.currentTarget)}>Save report</Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
        {FORMS.map(([form, name]) => (
          <MenuItem key={form} component="a" href={address(`shelves/${shelf}/compare/report`, { from, to, path, form })} download onClick={() => setAnchor(null)}>{name}</MenuItem>
        ))}
      </Menu>
    </>
  );
}
