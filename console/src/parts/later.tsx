/** A part of the console that is fetched when it is first shown.

React's own `lazy` holds back for 300 ms what is ready already, once any loading outline was shown; this does not. */
import { type ComponentType, type ReactNode, useEffect, useState } from "react";
import { ProblemError } from "../api/client";
import { ProblemBox } from "../shell/states";

const NOT_FETCHED = new ProblemError({
  detail: "This part of the console could not be fetched.",
  code: "console.failed",
  hint: "Reload the page: the service is out of reach, or has been updated since the page was opened.",
});

export type Later<P> = ComponentType<P> & {
  /** Begin to fetch it before it is shown. */
  ahead: () => void;
};

export function later<P extends object>(load: () => Promise<{ default: ComponentType<P> }>, waiting: ReactNode = null): Later<P> {
  let made: ComponentType<P> | undefined;
  let coming: Promise<void> | undefined;
  const fetched = () => {
    coming ??= load().then(
      (part) => {
        made = part.default;
      },
      (error) => {
        coming = undefined; // the next time it is shown it is asked for again
        throw error;
      },
    );
    return coming;
  };
  // biome-ignore lint/correctness/noComponentHookFactories: called once for each part, where its module begins
  function Part(props: P) {
    const [Shown, show] = useState(() => made);
    const [failed, setFailed] = useState(false);
    useEffect(() => {
      if (!Shown)
        fetched().then(
          () => show(() => made),
          () => setFailed(true),
        );
    }, [Shown]);
    if (failed) return <ProblemBox error={NOT_FETCHED} />;
    return Shown ? <Shown {...props} /> : waiting;
  }
  return Object.assign(Part, { ahead: () => void fetched().catch(() => undefined) });
}
