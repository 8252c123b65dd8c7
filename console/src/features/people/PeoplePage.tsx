import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { shelf } from "../../api/queries";
import { count, when } from "../../marks/words";
import { Part, Switch } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Choice } from "../../parts/Choice";
import { CopyButton } from "../../parts/Copying";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { Page, useMe, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { invitations, members, ROLES } from "./queries";
import { ShelfStore } from "./ShelfStore";

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
      {owner && <ShelfStore />}
    </Page>
  );
}

interface Given {
  person: string;
  role: string;
  was: string;
}

function MemberTable({ rows, owner }: { rows: Schemas["MemberOut"][]; owner: boolean }) {
  const key = useShelfKey();
  const me = useMe();
  const done = useDone();
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["shelf", key] });
  const set = useMutation({
    mutationFn: ({ person, role }: Given) =>
      answer(api.PUT("/shelves/{shelf}/members", { params: { path: { shelf: key } }, body: { person, role } })),
    onSuccess: (_, { person, role, was }) =>
      done({
        said: `${person} is ${role} now.`,
        undo: () => answer(api.PUT("/shelves/{shelf}/members", { params: { path: { shelf: key } }, body: { person, role: was } })),
      }),
    onSettled: again,
  });
  const remove = async ({ person, role }: Schemas["MemberOut"]) => {
    await answer(api.DELETE("/shelves/{shelf}/members/{name}", { params: { path: { shelf: key, name: person } } }));
    await again();
    const undo =
      person === me
        ? undefined
        : () => answer(api.PUT("/shelves/{shelf}/members", { params: { path: { shelf: key } }, body: { person, role } }));
    done({ said: `${person} has no role here now.`, undo });
  };
  return (
    <section className="sheet scroll" aria-label="Members">
      {set.isError && (
        <div className="pad">
          <ProblemBox error={set.error} />
        </div>
      )}
      <Table>
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
                  <Choice
                    aria-label={`Role of ${m.full_name}`}
                    value={m.role}
                    onChange={(e) => set.mutate({ person: m.person, role: e.target.value, was: m.role })}
                  >
                    {ROLES.map((r) => (
                      <option key={r}>{r}</option>
                    ))}
                  </Choice>
                ) : (
                  m.role
                )}
              </td>
              <td className="sec wrap">{MAY[m.role]}</td>
              <td>
                {(owner || m.person === me) && (
                  <Ask
                    label={m.person === me ? "Leave this shelf" : "Remove from shelf"}
                    title={m.person === me ? "Leave this shelf" : `Remove ${m.full_name} from the shelf`}
                    does={`${m.person === me ? "You" : m.full_name} can no longer open it${m.role === "reader" ? "" : " or change it"}. What was committed stays, and so do drafts.`}
                    act={m.person === me ? "Leave it" : `Remove ${m.person}`}
                    onAct={() => remove(m)}
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}

function OpenSwitch({ open }: { open: boolean }) {
  const key = useShelfKey();
  const done = useDone();
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (wanted: boolean) =>
      answer(api.PATCH("/shelves/{shelf}", { params: { path: { shelf: key } }, body: { open_to_all: wanted } })),
    onSuccess: (_, wanted) =>
      done({
        said: wanted ? "All signed-in users can read this shelf now." : "Only members can open this shelf now.",
        undo: () => answer(api.PATCH("/shelves/{shelf}", { params: { path: { shelf: key } }, body: { open_to_all: !wanted } })),
      }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  return (
    <Switch label="Who may see this shelf">
      <Part pressed={!open} onClick={() => change.mutate(false)}>
        Members only
      </Part>
      <Part pressed={open} onClick={() => change.mutate(true)}>
        All signed-in users can read
      </Part>
    </Switch>
  );
}

function Invite() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const [role, setRole] = useState("author");
  const [note, setNote] = useState("");
  const [days, setDays] = useState(7);
  const make = useMutation({
    mutationFn: () => answer(api.POST("/shelves/{shelf}/invitations", { params: { path: { shelf: key } }, body: { role, note, days } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", key, "invitations"] }),
  });
  const link = make.data ? `${window.location.origin}/join#${make.data.value}` : "";
  return (
    <>
      <Button
        variant="contained"
        onClick={() => {
          make.reset();
          dialog.show();
        }}
      >
        Invite a person
      </Button>
      <Sheet of={dialog} label="Invite a person" onClose={() => make.reset()}>
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
              <Field mono aria-label="Link of the invitation" readOnly rows={3} value={link} onFocus={(e) => e.target.select()} />
              <div className="acts">
                <CopyButton text={link}>Copy the link</CopyButton>
                <Button variant="contained" onClick={() => dialog.hide()}>
                  Done
                </Button>
              </div>
            </>
          ) : (
            <>
              <Field
                id="invite-note"
                label="Recipient (note for yourself)"
                maxLength={150}
                value={note}
                onChange={(e) => setNote(e.target.value)}
              />
              <Choice id="invite-role" label="Role" value={role} onChange={(e) => setRole(e.target.value)}>
                {ROLES.map((r) => (
                  <option key={r} value={r}>
                    {r}: {MAY[r]}
                  </option>
                ))}
              </Choice>
              <Field
                id="invite-days"
                label="Holds for days"
                type="number"
                min={1}
                max={60}
                value={days}
                onChange={(e) => setDays(Number(e.target.value))}
              />
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts">
                <Button onClick={() => dialog.hide()}>Cancel</Button>
                <Button type="submit" variant="contained" disabled={make.isPending}>
                  Make the invitation
                </Button>
              </div>
            </>
          )}
        </form>
      </Sheet>
    </>
  );
}

function Invitations() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const found = useQuery(invitations(key));
  const withdraw = async (id: string) => {
    await answer(api.DELETE("/shelves/{shelf}/invitations/{uid}", { params: { path: { shelf: key, uid: id } } }));
    await queries.invalidateQueries({ queryKey: ["shelf", key, "invitations"] });
  };
  if (!found.data?.length) return null;
  return (
    <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Invitations">
      <div className="ph">
        <h2 className="h3">Invitations</h2>
        <span className="cap">{count(found.data.filter((i) => i.state === "open").length, "open one")}</span>
      </div>
      <Table>
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
                  <Ask
                    label="Withdraw"
                    title={`Withdraw the invitation for ${i.note || "anyone"}`}
                    does="Its link lets no one in from then on. To invite again, make a new one."
                    act="Withdraw it"
                    onAct={() => withdraw(i.id)}
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}
