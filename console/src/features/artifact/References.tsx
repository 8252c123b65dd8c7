/** What the artifact uses, who uses it, and what it names that is not there. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { references } from "../../api/queries";
import { KindIcon } from "../../marks/spines";
import { count, fileName } from "../../marks/words";

type Use = Schemas["ReferenceOut"];

export function References({ shelf, path, at }: { shelf: string; path: string; at: string }) {
  const found = useQuery(references(shelf, path, at));
  if (!found.data) return null;
  const { uses, used_by: users, missing, complete } = found.data;
  return (
    <section className="sheet" aria-label="References">
      <div className="ph"><h3>References</h3><span className="cap">{complete ? "from content" : "still scanning; this list may be incomplete"}</span></div>
      <div className="refs">
        <List title="Uses" uses={uses} shelf={shelf} at={at} none="none on this shelf" />
        <List title="Used by" uses={users} shelf={shelf} at={at} none="nobody" />
      </div>
      {missing.length > 0 && <p className="pad cap">{count(missing.length, "name")} not on this shelf: {missing.slice(0, 6).map((m) => m.name).join(", ")}{missing.length > 6 ? " …" : ""}</p>}
    </section>
  );
}

/** One line an artifact, with the places it stands at. */
function List({ title, uses, shelf, at, none }: { title: string; uses: Use[]; shelf: string; at: string; none: string }) {
  const byArtifact = new Map<string, Use[]>();
  for (const use of uses) byArtifact.set(use.artifact, [...(byArtifact.get(use.artifact) ?? []), use]);
  return (
    <div>
      <p className="cap">{title}</p>
      {byArtifact.size === 0 && <p className="sec sm">{none}</p>}
      {[...byArtifact].map(([artifact, own]) => (
        <p key={artifact} title={own.map((u) => `${u.label} ${u.place}`).join("\n")}>
          <KindIcon kind={own[0]?.kind ?? "opaque"} />
          <Link to={`/s/${shelf}/artifact?${new URLSearchParams({ path: artifact, ref: at })}`}>{fileName(artifact)}</Link>
          <span className="cap">{own.some((u) => u.exact) ? own[0]?.label : "a guess"}</span>
        </p>
      ))}
    </div>
  );
}
