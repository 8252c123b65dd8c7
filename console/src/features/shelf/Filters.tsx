/** What narrows the list: words, kinds, and one of what there is of each other thing. */
import { Menu, MenuItem, TextField } from "@mui/material";
import { memo, useState } from "react";
import type { Schemas } from "../../api/client";
import { KindIcon } from "../../marks/spines";
import { RowAct } from "../../parts/Acts";

const MOST_KINDS = 7;

/** Kinds as chips, the rarer ones in a menu. */
export function Kinds({ kinds, chosen, onChoose }: { kinds: Schemas["KindSummary"][]; chosen: string; onChoose: (kind: string) => void }) {
  const [menu, setMenu] = useState<HTMLElement | null>(null);
  const few = kinds.length <= MOST_KINDS + 1 ? kinds : kinds.filter((one, n) => n < MOST_KINDS || one.kind === chosen);
  const rest = kinds.filter((one) => !few.includes(one));
  return (
    <>
      {few.map((one) => (
        <RowAct
          key={one.kind}
          className="chip"
          aria-pressed={chosen === one.kind}
          onClick={() => onChoose(chosen === one.kind ? "" : one.kind)}
        >
          <KindIcon kind={one.kind} />
          {one.kind} <em>{one.count}</em>
        </RowAct>
      ))}
      {rest.length > 0 && (
        <>
          <RowAct className="chip" aria-haspopup="menu" onClick={(e) => setMenu(e.currentTarget)}>
            {rest.length} more kinds ▾
          </RowAct>
          <Menu anchorEl={menu} open={menu !== null} onClose={() => setMenu(null)}>
            {rest.map((one) => (
              <MenuItem
                key={one.kind}
                onClick={() => {
                  onChoose(one.kind);
                  setMenu(null);
                }}
              >
                <KindIcon kind={one.kind} />
                &nbsp;{one.kind}&nbsp;<em className="cap">{one.count}</em>
              </MenuItem>
            ))}
          </Menu>
        </>
      )}
    </>
  );
}

/** One filter: any, or one of what there is. */
export const Narrow = memo(function Narrow({
  label,
  value,
  options,
  onChoose,
}: {
  label: string;
  value: string;
  /** Each with what it is called, where that is another word. */
  options: (string | [string, string])[];
  onChoose: (value: string) => void;
}) {
  const pairs = options.map((one): [string, string] => (typeof one === "string" ? [one, one] : one));
  if (pairs.length === 0 && !value) return null;
  if (value && !pairs.some(([id]) => id === value)) pairs.push([value, value]);
  return (
    <TextField
      select
      size="small"
      label={label}
      value={value}
      onChange={(e) => onChoose(e.target.value)}
      slotProps={{ select: { native: true }, inputLabel: { shrink: true } }}
      sx={{ minWidth: 84, maxWidth: 200, "& .MuiInputBase-root": { height: 30, fontSize: 14 } }}
    >
      <option value="">any</option>
      {pairs.map(([id, name]) => (
        <option key={id} value={id}>
          {name}
        </option>
      ))}
    </TextField>
  );
});
