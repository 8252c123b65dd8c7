import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { oneOf } from "../../api/given";
import type { Environment } from "../../api/queries";
import { Mark, Tick } from "../../marks/Mark";
import { CheckField } from "../../parts/CheckField";
import { Choice } from "../../parts/Choice";
import { LongTable } from "../../shell/LongTable";
import { useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";

const SIDES = { environment: "in the environment", shelf: "on the branch", both: "on both sides" } as const;

/** What differs in an environment, and bringing what was changed there into a draft. */
export function DriftPanel({ environment: e }: { environment: Environment }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const of = { shelf: key, name: e.name };
  const [left, setLeft] = useState<string[]>([]);
  const [prefer, setPrefer] = useState<"" | "environment" | "shelf">("");
  const found = useQuery({
    queryKey: ["shelf", key, "environments", e.name, "drift"],
    queryFn: async () => {
      await answer(api.POST("/shelves/{shelf}/environments/{name}/drift", { params: { path: of } }));
      return answer(api.GET("/shelves/{shelf}/environments/{name}/drift", { params: { path: of } }));
    },
  });
  const capture = useMutation({
    mutationFn: (paths: string[]) =>
      answer(api.POST("/shelves/{shelf}/environments/{name}/capture", { params: { path: of }, body: { paths, prefer: prefer || null } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  if (found.isPending) return <Loading what={`Looking into ${e.name}`} />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const there = found.data.artifacts.filter((a) => a.side !== "shelf");
  const here = found.data.artifacts.length - there.length;
  const out = new Set(left);
  const chosen = there.filter((a) => !out.has(a.path)).map((a) => a.path);
  return (
    <section className="sheet" aria-label={`Drift of ${e.name}`}>
      <div className="ph">
        <h2 className="h3">Drift of {e.name}</h2>
        <span className="cap">
          beside {found.data.branch}
          {found.data.tag ? `, from tag:${found.data.tag}` : ""}
        </span>
      </div>
      <p className="pad" style={{ font: "400 17px/24px var(--serif)" }}>
        {found.data.sentence}
      </p>
      {there.length > 0 && (
        <>
          <LongTable
            caption={`What was changed in ${e.name}`}
            maxHeight="420px"
            columns={5}
            count={there.length}
            head={
              <tr>
                <th>Capture</th>
                <th>Artifact</th>
                <th>What happened</th>
                <th>By</th>
                <th>Differs</th>
              </tr>
            }
            row={(index, place) => {
              const a = there[index];
              return (
                a && (
                  <tr key={a.path} {...place}>
                    <td>
                      <CheckField
                        aria-label={`Capture ${a.path} back`}
                        checked={!left.includes(a.path)}
                        onChange={(ev) => setLeft(ev.target.checked ? left.filter((p) => p !== a.path) : [...left, a.path])}
                      />
                    </td>
                    <td title={a.path}>
                      <Mark action={a.where.startsWith("added") ? "added" : a.where.startsWith("removed") ? "removed" : "changed"} />{" "}
                      <b>{a.name}</b>
                    </td>
                    <td className="sec">
                      {a.where}
                      {a.side_effects ? (
                        <>
                          {" "}
                          <span className="cap">side effect</span>
                        </>
                      ) : null}
                    </td>
                    <td className="sec">{a.by || "unknown"}</td>
                    <td className="sec">{SIDES[a.side as keyof typeof SIDES]}</td>
                  </tr>
                )
              );
            }}
          />
          <div className="line1 pad">
            <Button variant="contained" disabled={chosen.length === 0 || capture.isPending} onClick={() => capture.mutate(chosen)}>
              Capture {chosen.length} in my draft
            </Button>
            <Choice
              id="prefer"
              label="Conflicts"
              value={prefer}
              onChange={(ev) => setPrefer(oneOf(["environment", "shelf"], ev.target.value) ?? "")}
            >
              <option value="">skip and report</option>
              <option value="environment">keep the environment's</option>
              <option value="shelf">keep the shelf's</option>
            </Choice>
          </div>
        </>
      )}
      {here > 0 && (
        <p className="pad sec">
          {here} artifact{here === 1 ? " is" : "s are"} newer on {found.data.branch}; a promotion brings {here === 1 ? "it" : "them"} there.
        </p>
      )}
      {capture.isError && <ProblemBox error={capture.error} />}
      {capture.data && (
        <div className="pad" role="status">
          {capture.data.artifacts.map((a) => (
            <p key={a.path} style={{ display: "flex", gap: 7, margin: "3px 0" }}>
              <Tick met={a.taken} />
              <span>
                <b>{a.path}</b>: {a.taken ? `in your draft, ${a.side_effects ? "changed by the platform itself" : a.message}` : a.message}
              </span>
            </p>
          ))}
          <Link to={`/s/${key}/pending?branch=${encodeURIComponent(capture.data.branch)}`}>Look at what is pending</Link>
        </div>
      )}
    </section>
  );
}
