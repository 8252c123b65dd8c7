/** The key / opens Find from every page, for the shelf that is open. */
import { useEffect } from "react";
import { useLocation, useNavigate } from "react-router";
import { isPlain, isTyping } from "./keys";

export function FindKey() {
  const go = useNavigate();
  const { pathname } = useLocation();
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      if (event.key !== "/" || !isPlain(event) || isTyping(event)) return;
      event.preventDefault();
      void go(findAddress(/^\/s\/([^/]+)/.exec(pathname)?.[1]));
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [go, pathname]);
  return null;
}

export function findAddress(shelf?: string): string {
  return shelf ? `/find?${new URLSearchParams({ shelf })}` : "/find";
}
