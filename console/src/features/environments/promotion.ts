/** Rehearsing, promoting and rolling back: one at a time on the page, its job followed to the end. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, ProblemError, type Schemas } from "../../api/client";
import type { Environment, Job } from "../../api/queries";

interface Started {
  environment: string;
  job: string;
}

/** What is asked for; `lose` names what may be gone for good. */
type Act = { environment: string; lose?: string[] } & (
  | { act: "promote"; body: Schemas["PromotionWantedRequest"] }
  | { act: "roll-back"; body: Schemas["RollbackWantedRequest"] }
);

function begin(shelf: string, { environment, lose, ...asked }: Act): Promise<Job> {
  const params = { path: { shelf, name: environment } };
  if (asked.act === "promote")
    return answer(
      api.POST("/shelves/{shelf}/environments/{name}/promote", { params, body: { ...asked.body, lose: lose ?? asked.body.lose } }),
    );
  return answer(
    api.POST("/shelves/{shelf}/environments/{name}/roll-back", { params, body: { ...asked.body, lose: lose ?? asked.body.lose } }),
  );
}

export function usePromotion(key: string) {
  const queries = useQueryClient();
  const [running, setRunning] = useState<Started | null>(null);
  const [atWork, setAtWork] = useState(false);
  const rehearsal = useMutation({
    mutationFn: (asked: { environment: string; tag: string }) =>
      answer(
        api.POST("/shelves/{shelf}/environments/{name}/rehearse", {
          params: { path: { shelf: key, name: asked.environment } },
          body: { tag: asked.tag },
        }),
      ),
  });
  const start = useMutation({
    mutationFn: (act: Act) => begin(key, act),
    onSuccess: (job, act) => {
      setRunning({ environment: act.environment, job: job.job });
      setAtWork(true);
    },
  });
  const asked = start.variables;
  const lost = losses(start.error);
  return {
    rehearsal,
    start,
    running,
    busy: start.isPending || atWork,
    rehearse: (environment: string, tag: string) => {
      start.reset();
      rehearsal.mutate({ environment, tag });
    },
    /** Forget what was rehearsed: another tag or environment is looked at. */
    forget: () => {
      rehearsal.reset();
      start.reset();
    },
    /** Follow a promotion that was started in another way. */
    follow: (environment: string, job: string) => setRunning({ environment, job }),
    rollBack: (environment: Environment, reason: string) =>
      start.mutateAsync({
        environment: environment.name,
        act: "roll-back",
        body: { reason, overwrite_drift: environment.drift.length > 0 },
      }),
    /** The names of what would be gone for good, where that is why it was refused. */
    lost,
    lose: () => asked && start.mutate({ ...asked, lose: lost }),
    ended: async () => {
      setAtWork(false);
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      rehearsal.reset();
    },
  };
}

export type Promotion = ReturnType<typeof usePromotion>;

function losses(error: Error | null): string[] {
  const problem = error instanceof ProblemError ? (error.problem as { code?: string; lost?: string[] }) : {};
  return problem.code === "gate.loss" ? (problem.lost ?? []) : [];
}
