/** Follow an artifact or a branch, or no longer. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { TextAct } from "../../parts/Acts";
import { useDone } from "../../shell/Done";
import { follow, followed } from "./queries";

export function FollowAct({ shelf, artifact, branch }: { shelf: string; artifact?: string; branch?: string }) {
  const queries = useQueryClient();
  const done = useDone();
  const found = useQuery(followed(shelf));
  const one = { artifact: artifact ?? null, branch: branch ?? null };
  const does = found.data?.some((other) => (artifact ? other.artifact === artifact : other.branch === branch)) ?? false;
  const set = useMutation({
    mutationFn: (wanted: boolean) => follow(shelf, one, wanted),
    onSuccess: () =>
      done({
        said: does
          ? `You follow ${artifact ?? branch} no longer.`
          : `You follow ${artifact ?? branch}: what others do to it is marked in News.`,
        to: does ? undefined : `/s/${shelf}/news`,
        undo: () => follow(shelf, one, does),
      }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", shelf] }),
  });
  if (!found.data) return null;
  return (
    <TextAct
      aria-label={`${does ? "Follow no longer" : "Follow"} ${artifact ?? branch}`}
      disabled={set.isPending}
      onClick={() => set.mutate(!does)}
    >
      {does ? "Follow no longer" : "Follow"}
    </TextAct>
  );
}
