/** What the pages of experiments ask for. */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";
import { numberIn, oneOf } from "../../api/given";

export type Experiment = Schemas["ExperimentOut"];
export type Run = Schemas["RunCompared"];
export type Column = Schemas["ColumnOut"];
export type Course = Schemas["CourseOut"];

export const experiments = (key: string, state: string, words: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "experiments", state, words],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/experiments", {
          params: {
            path: { shelf: key },
            query: {
              state: oneOf(["open", "adopted", "abandoned", "all"], state),
              words: words || undefined,
              cursor: pageParam || undefined,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

export const experiment = (key: string, name: string, base: string) =>
  queryOptions({
    queryKey: ["shelf", key, "experiment", name, base],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/experiments/{key}", { params: { path: { shelf: key, key: name }, query: { base: numberIn(base) } } }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });

export const courses = (key: string, name: string, metric: string, runs: string) =>
  queryOptions({
    queryKey: ["shelf", key, "experiment", name, "courses", metric, runs],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/experiments/{key}/courses", { params: { path: { shelf: key, key: name }, query: { metric, runs } } }),
      ),
    placeholderData: keepPreviousData,
  });
