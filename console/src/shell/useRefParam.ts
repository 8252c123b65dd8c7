/** View state lives in the address, so that every page can be shared. */
import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** Change several at once, in one step of the browser's history; an empty value leaves the address. */
export function useSetParams(): (values: Record<string, string>) => void {
  const [, setParams] = useSearchParams();
  return useCallback(
    (values) =>
      setParams((old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(values))
          if (value) next.set(name, value);
          else next.delete(name);
        return next;
      }),
    [setParams],
  );
}

export function useParam(name: string, fallback = ""): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (value: string) =>
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          if (value === fallback || value === "") next.delete(name);
          else next.set(name, value);
          return next;
        },
        { replace: false },
      ),
    [name, fallback, setParams],
  );
  return [params.get(name) ?? fallback, set];
}
