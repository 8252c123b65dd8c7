/** A tag of the shelf to choose, newest first. */
import { useInfiniteQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { tags } from "../../api/queries";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

interface Props {
  id: string;
  label: ReactNode;
  value: string;
  onChoose: (tag: string) => void;
}

export function TagChoice({ id, label, value, onChoose }: Props) {
  const found = useInfiniteQuery(tags(useShelfKey()));
  const names = found.data?.pages.flatMap((page) => page.items.map((tag) => tag.name)) ?? [];
  // One that the address names may be older than those that are shown.
  const shown = value && !names.includes(value) ? [value, ...names] : names;
  return (
    <>
      <Choice id={id} label={label} value={value} onChange={(event) => onChoose(event.target.value)}>
        {shown.map((name) => (
          <option key={name} value={name}>
            tag:{name}
          </option>
        ))}
      </Choice>
      {found.isError && <ProblemBox error={found.error} />}
      {found.hasNextPage && <TextAct onClick={() => void found.fetchNextPage()}>List older tags</TextAct>}
    </>
  );
}
