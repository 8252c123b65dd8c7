/** In which store the bytes of a shelf are to live; nothing where this installation has only one. */

import { useQuery } from "@tanstack/react-query";
import { Choice } from "../../parts/Choice";
import { stores } from "./queries";

export const MAIN = "main";

export function StoreChoice({ value, onChange }: { value: string; onChange: (store: string) => void }) {
  const found = useQuery(stores());
  if ((found.data?.length ?? 0) < 2) return null;
  return (
    <Choice label="Store where its bytes live" value={value} onChange={(e) => onChange(e.target.value)}>
      {found.data?.map((one) => (
        <option key={one.name} value={one.name}>
          {one.name}
        </option>
      ))}
    </Choice>
  );
}
