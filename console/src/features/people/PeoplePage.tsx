import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { type Schemas, send } from "../../api/client";
import { shelf } from "../../api/queries";
import { count, when } from "../../marks/words";
import { Page, useMe, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { invitations, members, ROLES } from "./queries";

const MAY: Record<string, string> = {
  reader: "sees, compares, downloads, remarks",
  author: "also drafts, commits to branches that are not guarded, experiments, proposals",
  keeper: "also commits and merges to guarded branches, tags, promotes",
  owner: "also people, guarding, settings",
};

export function PeoplePage() {
  const key = useShelfKey();
  const info = useQuery(shelf(key));
  const found = useQuery(members(key));
  const owner = info.data?.role === "owner";
  return (
    <Page page="people" title="People" at="main" say={<i className="j">people</i>}>
      <div className="line1">
        <h1>
          {found.data
            ? `${count(found.data.length, "person has", "people have")} a role here; ${info.data?.open_to_all ? "all signed-in users can read" : "nobody else sees this shelf"}.`
            : "People"}
        </h1>
        {owner && (
          <span className="end">
            <OpenSwitch open={info.data?.open_to_all ?? false} />
            <Invite />
          </span>
        )}
      </div>
      {found.isPending && <Loading what="Reading who has a role" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && <MemberTable rows={found.data} owner={owner} />}
      {owner && <Invitations />}
    </Page>
  );
}

function MemberTable({ rows, owner }: { rows: Schemas["MemberOut"][]; owner: boolean }) {
  const key = useShelfKey();
  const me = useMe();
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["shelf", key] });
  const set = useMutation({
    mutationFn: (body: { person: string; role: string }) => send("PUT", `shelves/${key}/members`, body),
    onSettled: again,
  });
  const remove = useMutation({
    mutationFn: (person: string) => send("DELETE", `shelves/${key}/members/${encodeURIComponent(person)}`),
    onSettled: again,
  });
  return (
    <section className="sheet scroll" aria-label="Members">
      {(set.isError || remove.isError) && (
        <div className="pad">
          <ProblemBox error={set.error ?? remove.error} />
        </div>
      )}
      <table>
        <thead>
          <tr>
            <th>Person</th>
            <th>Signs in as</th>
            <th>Role</th>
            <th>Roles and permissions</th>
            <th>
              <span className="sr">Action</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((m) => (
            <tr key={m.person}>
              <td>
                <b>{m.full_name}</b>
              </td>
              <td className="mono">{m.person}</td>
              <td>
                {owner ? (
                  <select
                    className="inp"
                    aria-label={`Role of ${m.full_name}`}
                    value={m.role}
                    onChange={(e) => set.mutate({ person: m.person, role: e.target.value })}
                  >
                    {ROLES.map((r) => (
                      <option key={r}>{r}</option>
                    ))}
                  </select>
                ) : (
                  m.role
                )}
              </td>
              <td className="sec wrap">{MAY[m.role]}</td>
              <td>
                {(owner || m.person === me) && (
                  <button type="button" className="plainbtn" onClick={() => remove.mutate(m.person)}>
                    {m.person === me ? "Leave this shelf" : "Remove from shelf"}
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function OpenSwitch({ open }: { open: boolean }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (wanted: boolean) => send("PATCH", `shelves/${key}`, { open_to_all: wanted }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  return (
    <span className="seg" role="group" aria-label="Who may see this shelf">
      <button type="button" aria-pressed={!open} onClick={() => change.mutate(false)}>
        Members only
      </button>
      <button type="button" aria-pressed={open} onClick={() => change.mutate(true)}>
        All signed-in users can read
      </button>
    </span>
  );
}

function Invite() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [role, setRole] = useState("author");
  const [note, setNote] = useState("");
  const [days, setDays] = useState(7);
  const make = useMutation({
    mutationFn: () => send<Schemas["InvitationMade"]>("POST", `shelves/${key}/invitations`, { role, note, days }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", key, "invitations"] }),
  });
  const link = make.data ? `${window.location.origin}/join#${make.data.value}` : "";
  return (
    <>
      <Button
        variant="contained"
        onClick={() => {
          make.reset();
          dialog.current?.showModal();
        }}
      >
        Invite a person
      </Button>
      <dialog ref={dialog} aria-label="Invite a person" onClose={() => make.reset()}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Invite a person</h2>
          {link ? (
            <>
              <p className="sec">
                Whoever opens this becomes {role} of this shelf, once, within {count(days, "day")}. Send it to them; it is not shown again.
              </p>
              <textarea
                className="inp mono"
                aria-label="Link of the invitation"
                readOnly
                rows={3}
                value={link}
                onFocus={(e) => e.target.select()}
              />
              <div className="acts">
                <Button onClick={() => void navigator.clipboard?.writeText(link)}>Copy the link</Button>
                <Button variant="contained" onClick={() => dialog.current?.close()}>
                  Done
                </Button>
              </div>
            </>
          ) : (
            <>
              <label htmlFor="invite-note">Recipient (note for yourself)</label>
              <input id="invite-note" className="inp" maxLength={150} value={note} onChange={(e) => setNote(e.target.value)} />
              <label htmlFor="invite-role">Role</label>
              <select id="invite-role" className="inp" value={role} onChange={(e) => setRole(e.target.value)}>
                {ROLES.map((r) => (
                  <option key={r} value={r}>
                    {r}: {MAY[r]}
                  </option>
                ))}
              </select>
              <label htmlFor="invite-days">Holds for days</label>
              <input
                id="invite-days"
                className="inp"
                type="number"
                min={1}
                max={60}
                value={days}
                onChange={(e) => setDays(Number(e.target.value))}
              />
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts">
                <Button onClick={() => dialog.current?.close()}>Cancel</Button>
                <Button type="submit" variant="contained" disabled={make.isPending}>
                  Make the invitation
                </Button>
              </div>
            </>
          )}
        </form>
      </dialog>
    </>
  );
}

function Invitations() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const found = useQuery(invitations(key));
  const withdraw = useMutation({
    mutationFn: (id: string) => send("DELETE", `shelves/${key}/invitations/${id}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key, "invitations"] }),
  });
  if (!found.data?.length) return null;
  return (
    <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Invitations">
      <div className="ph">
        <h3>Invitations</h3>
        <span className="cap">{count(found.data.filter((i) => i.state === "open").length, "open one")}</span>
      </div>
      {withdraw.isError && (
        <div className="pad">
          <ProblemBox error={withdraw.error} />
        </div>
      )}
      <table>
        <thead>
          <tr>
            <th>For</th>
            <th>Role</th>
            <th>State</th>
            <th>Made</th>
            <th>By</th>
            <th>Valid until</th>
            <th>
              <span className="sr">Action</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((i) => (
            <tr key={i.id}>
              <td>
                <b>{i.note || "anyone"}</b>
              </td>
              <td>{i.role}</td>
              <td>
                {i.state}
                {i.accepted_by && ` by ${i.accepted_by}`}
              </td>
              <td>{when(i.created)}</td>
              <td>{i.created_by}</td>
              <td title={i.expires}>{when(i.expires)}</td>
              <td>
                {i.state === "open" && (
                  <button type="button" className="plainbtn" onClick={() => withdraw.mutate(i.id)}>
                    Withdraw
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
