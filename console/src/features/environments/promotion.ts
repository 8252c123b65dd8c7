/** Rehearsing, promoting and rolling back: one at a time on the page, its job followed to the end. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ProblemError, send } from "../../api/client";
import type { Environment, Job, Rehearsal } from "../../api/queries";

interface Started {
  environment: string;
  job: string;
}

interface Act {
  environment: string;
  act: "promote" | "roll-back";
  body: object;
}

export function usePromotion(key: string) {
  const queries = useQueryClient();
  const [running, setRunning] = useState<Started | null>(null);
  const [atWork, setAtWork] = useState(false);
  const rehearsal = useMutation({
    mutationFn: (asked: { environment: string; tag: string }) =>
      send<Rehearsal>("POST", `shelves/${key}/environments/${asked.environment}/rehearse`, { tag: asked.tag }),
  });
  const start = useMutation({
    mutationFn: (act: Act) => send<Job>("POST", `shelves/${key}/environments/${act.environment}/${act.act}`, act.body),
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
    lose: () => asked && start.mutate({ ...asked, body: { ...asked.body, lose: lost } }),
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
