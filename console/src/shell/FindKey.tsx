/** A key opens Find from every page, for the shelf that is open. */
import { type ReactNode, useCallback } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import { useKey, useOwnKeys } from "./ownKeys";

export function FindKey() {
  const go = useNavigate();
  const { pathname } = useLocation();
  const find = useCallback(() => void go(findAddress(/^\/s\/([^/]+)/.exec(pathname)?.[1])), [go, pathname]);
  useKey("find", find);
  return null;
}

/** The way to Find for who does not press its key; shows which that is. */
export function FindLink({ shelf, children }: { shelf?: string; children: ReactNode }) {
  const key = useOwnKeys().find;
  return (
    <Link to={findAddress(shelf)} className="findlink">
      {children}
      {key && <kbd aria-hidden="true">{key}</kbd>}
    </Link>
  );
}

function findAddress(shelf?: string): string {
  return shelf ? `/find?${new URLSearchParams({ shelf })}` : "/find";
}
