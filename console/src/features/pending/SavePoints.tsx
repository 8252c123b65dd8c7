import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { Mark } from "../../marks/Mark";
import { size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { savePoints } from "./pending";

/** The trail of a draft: every state that was saved, also of what was committed or discarded. */
export function SavePoints({ branch }: { branch: string }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const found = useQuery(savePoints(key, branch));
  const back = useMutation({
    mutationFn: (point: number) =>
      answer(api.POST("/shelves/{shelf}/drafts/restore", { params: { path: { shelf: key } }, body: { branch, point } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key, "drafts"] }),
  });
  if (found.isPending) return <Loading what="Reading the save points" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const newest = new Set<number>();
  const seen = new Set<string>();
  for (const p of found.data) {
    if (!seen.has(p.path)) newest.add(p.point);
    seen.add(p.path);
  }
  return (
    <div className="scroll">
      {back.isError && <ProblemBox error={back.error} />}
      <Table>
        <caption className="sr">Save points of {branch}</caption>
        <thead>
          <tr>
            <th className="num">Point</th>
            <th>State</th>
            <th>Artifact</th>
            <th className="num">Size</th>
            <th>Saved</th>
            <th>Committed in</th>
            <th>
              <span className="sr">Comparison</span>
            </th>
            <th>
              <span className="sr">Action</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((p) => (
            <tr key={p.point}>
              <td className="num">{p.point}</td>
              <td>
                {p.state !== "discarded" && <Mark action={p.state} />} {p.state}
              </td>
              <td>{p.path}</td>
              <td className="num">{p.content ? size(p.size) : ""}</td>
              <td>{when(p.made)}</td>
              <td className="mono">
                {p.commit ? (
                  <Link to={`/s/${key}?ref=commit:${p.commit}`}>{p.commit.slice(0, 8)}</Link>
                ) : (
                  <span className="mut">not committed</span>
                )}
              </td>
              <td>
                {p.content && (
                  <Link to={`/s/${key}/compare?${new URLSearchParams({ path: p.path, from: branch, to: `draft:${branch}@${p.point}` })}`}>
                    Compare
                  </Link>
                )}
              </td>
              <td>
                {(!newest.has(p.point) || p.state === "discarded" || p.commit) && (
                  <TextAct aria-label={`Restore save point ${p.point}`} onClick={() => back.mutate(p.point)}>
                    Restore
                  </TextAct>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}
