/** What the pages of experiments ask for. */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export type Experiment = Schemas["ExperimentOut"];
export type Run = Schemas["RunCompared"];
export type Column = Schemas["ColumnOut"];
export type Course = Schemas["CourseOut"];

export const experiments = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "experiments"],
    queryFn: () => get<Schemas["ExperimentListed"][]>(`shelves/${key}/experiments`),
  });

export const experiment = (key: string, name: string, base: string) =>
  queryOptions({
    queryKey: ["shelf", key, "experiment", name, base],
    queryFn: () => get<Experiment>(`shelves/${key}/experiments/${name}`, { base: base || undefined }),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });

export const courses = (key: string, name: string, metric: string, runs: string) =>
  queryOptions({
    queryKey: ["shelf", key, "experiment", name, "courses", metric, runs],
    queryFn: () => get<Course[]>(`shelves/${key}/experiments/${name}/courses`, { metric, runs }),
    placeholderData: keepPreviousData,
  });
