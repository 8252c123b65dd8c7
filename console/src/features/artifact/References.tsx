/** What the artifact uses, who uses it, and what it names that is not there. */

import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { uses as usesQuery } from "../../api/queries";
import { KindIcon } from "../../marks/spines";
import { count, fileName } from "../../marks/words";
import { TextAct } from "../../parts/Acts";

type Use = Schemas["UsedArtifact"] | Schemas["UsingArtifact"];
const MOST = 12;

export function References({ shelf, path, at, onAll }: { shelf: string; path: string; at: string; onAll: () => void }) {
  const found = useQuery(usesQuery(shelf, path, at, { depth: 1 }));
  if (!found.data) return null;
  const { uses, used_by: users, missing, unread } = found.data;
  return (
    <section className="sheet" aria-label="References">
      <div className="ph">
        <h2 className="h3">References</h2>
        <span className="cap">{unread ? `${count(unread, "artifact")} could not be read` : "from content"}</span>
        <span className="r">
          <TextAct onClick={onAll}>All uses</TextAct>
        </span>
      </div>
      <div className="refs">
        <List title="Uses" uses={uses} shelf={shelf} at={at} none="none on this shelf" />
        <List title="Used by" uses={users} shelf={shelf} at={at} none="none" />
      </div>
      {missing.length > 0 && (
        <p className="pad cap">
          {count(missing.length, "name")} not on this shelf:{" "}
          {missing
            .slice(0, 6)
            .map((m) => m.name)
            .join(", ")}
          {missing.length > 6 ? " …" : ""}
        </p>
      )}
    </section>
  );
}

function List({ title, uses, shelf, at, none }: { title: string; uses: Use[]; shelf: string; at: string; none: string }) {
  return (
    <div>
      <p className="cap">{title}</p>
      {uses.length === 0 && <p className="sec sm">{none}</p>}
      {uses.slice(0, MOST).map((use) => (
        <p key={`${use.shelf} ${use.artifact} ${use.verb}`} title={`${use.label} ${use.place}`}>
          <KindIcon kind={use.kind} />
          <Link to={`/s/${use.shelf}/artifact?${new URLSearchParams({ path: use.artifact, ...(use.shelf === shelf ? { ref: at } : {}) })}`}>
            {fileName(use.artifact)}
          </Link>
          <span className="cap">{use.verb === "made by" ? "makes it" : use.exact ? use.label : "a guess"}</span>
        </p>
      ))}
      {uses.length > MOST && <p className="cap">and {uses.length - MOST} more</p>}
    </div>
  );
}
