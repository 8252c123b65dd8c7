/** How far a branch is from its other side, on every page that shows the branch. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { useShelfKey } from "../../shell/Page";
import { gitLinks } from "./queries";

const MARKS: Record<string, string> = { "in step": "=", ahead: "↑", behind: "↓", diverged: "≠", refused: "✕" };

export function GitState({ branch }: { branch: string }) {
  const key = useShelfKey();
  const links = useQuery(gitLinks(key));
  const lines = (links.data ?? []).flatMap((link) => link.lines.filter((line) => line.branch === branch).map((line) => ({ link, line })));
  return (
    <>
      {lines.map(({ link, line }) => {
        const far = { ahead: ` ${line.ahead}`, behind: ` ${line.behind}` }[line.state] ?? "";
        const to = line.merge ? `/s/${key}/settle/${line.merge}` : `/s/${key}/git`;
        return (
          <Link key={link.name} className={`gitstate${line.state === "in step" ? "" : " apart"}`} to={to} title={line.why || link.address}>
            {MARKS[line.state]} {link.name}: {line.state}
            {far}
          </Link>
        );
      })}
    </>
  );
}
