/** What a page shows, saved as one file: HTML, Markdown or JSON. */
import { Button, Menu, MenuItem } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { save } from "../api/client";
import { ProblemBox } from "./states";

const FORMS = [
  ["html", "Web page (.html)"],
  ["md", "Markdown (.md)"],
  ["json", "JSON (.json)"],
] as const;

interface Given {
  /** Where the report comes from, below /api/v1. */
  report: string;
  query: Record<string, string | undefined>;
  label?: string;
  waiting?: boolean;
}

export function SaveReport({ report, query, label = "Save report", waiting = false }: Given) {
  const made = useMutation({ mutationFn: (form: string) => save(report, { ...query, form }) });
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <Button
        variant="outlined"
        aria-haspopup="menu"
        aria-expanded={anchor !== null}
        disabled={waiting || made.isPending}
        onClick={(e) => setAnchor(e.currentTarget)}
      >
        {label}
      </Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
        {FORMS.map(([form, name]) => (
          <MenuItem
            key={form}
            onClick={() => {
              setAnchor(null);
              made.mutate(form);
            }}
          >
            {name}
          </MenuItem>
        ))}
      </Menu>
      {made.isError && <ProblemBox error={made.error} />}
    </>
  );
}
