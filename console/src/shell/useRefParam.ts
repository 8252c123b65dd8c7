/** View state lives in the address, so that every page can be shared. */
import { useCallback } from "react";
import { useSearchParams } from "react-router";

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
