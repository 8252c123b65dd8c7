/** A link made in three steps: where it leads, what it joins, and a look before anything moves. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { count } from "../../marks/words";
import { CheckField } from "../../parts/CheckField";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { ProblemBox } from "../../shell/states";
import { Access, type AccessSaid, NO_ACCESS } from "./Access";
import { gitLinks, moved, PARTS, type Parts, partsOf, WAYS, type Way, wayOf } from "./queries";

type Tried = Schemas["GitTried"];
export function MakeLink({ shelf }: { shelf: string }) {
  const queries = useQueryClient();
  const dialog = useSheet();
  const [step, setStep] = useState(1);
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [access, setAccess] = useState<AccessSaid>(NO_ACCESS);
  const [folder, setFolder] = useState("");
  const [place, setPlace] = useState("");
  const [way, setWay] = useState<Way>("both");
  const [parts, setParts] = useState<Parts>("none");
  const [follows, setFollows] = useState(true);
  const [tried, setTried] = useState<Tried | null>(null);
  const params = { path: { shelf, link: name } };
  const again = () => queries.invalidateQueries({ queryKey: gitLinks(shelf).queryKey });

  /** Made and tried at once; one that cannot be reached is not kept. */
  const reach = useMutation({
    mutationFn: async () => {
      await answer(
        api.POST("/shelves/{shelf}/git/links", { params: { path: { shelf } }, body: { name, address, ...access, folder, place } }),
      );
      try {
        return await answer(api.POST("/shelves/{shelf}/git/links/{link}/test", { params }));
      } catch (error) {
        await answer(api.DELETE("/shelves/{shelf}/git/links/{link}", { params }));
        throw error;
      }
    },
    onSuccess: (found) => {
      setTried(found);
      setStep(2);
    },
  });
  const look = useMutation({
    mutationFn: async () => {
      await answer(api.PATCH("/shelves/{shelf}/git/links/{link}", { params, body: { way, parts } }));
      return answer(api.POST("/shelves/{shelf}/git/links/{link}/test", { params }));
    },
    onSuccess: (found) => {
      setTried(found);
      setStep(3);
    },
  });
  const begin = useMutation({
    mutationFn: async () => {
      if (follows) await answer(api.PATCH("/shelves/{shelf}/git/links/{link}", { params, body: { follows } }));
      else await moved(shelf, name, way === "send" ? "send" : "fetch");
    },
    onSuccess: async () => {
      await again();
      dialog.hide();
    },
  });
  const leave = useMutation({
    mutationFn: async () => {
      if (step > 1) await answer(api.DELETE("/shelves/{shelf}/git/links/{link}", { params }));
    },
    onSettled: async () => {
      await again();
      dialog.hide();
    },
  });
  const error = reach.error ?? look.error ?? begin.error;
  const next = step === 1 ? reach : step === 2 ? look : begin;
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          setStep(1);
          setName("");
          setAccess(NO_ACCESS);
          setFolder("");
          setPlace("");
          setParts("none");
          reach.reset();
          look.reset();
          begin.reset();
          dialog.show();
        }}
      >
        Make a link
      </Button>
      <Sheet of={dialog} label="Make a link">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            next.mutate();
          }}
        >
          <h2>
            Make a link <span className="cap">{step} of 3</span>
          </h2>
          <ol className="steps">
            <li className={step > 1 ? "done" : "now"}>
              <b>Address</b>
              {step > 1 ? (
                <span className="cap">
                  {address} can be reached{tried?.may_write ? " and written to" : ""}.{" "}
                  {count(tried?.branches_there.length ?? 0, "branch", "branches")}, {count(tried?.tags ?? 0, "tag")}.
                </span>
              ) : (
                <>
                  <Field
                    id="link-name"
                    label="Name"
                    required
                    pattern="[a-z0-9]+(-[a-z0-9]+)*"
                    title="Lower-case letters, digits and dashes"
                    value={name}
                    onChange={(e) => setName(e.target.value)}
                  />
                  <Field
                    id="link-address"
                    label="Address of the repository"
                    required
                    placeholder="https://HOST/REPOSITORY.git or ssh://USER@HOST/PATH"
                    value={address}
                    onChange={(e) => setAddress(e.target.value)}
                  />
                  <Field
                    id="link-folder"
                    label="Only this folder or artifact (empty: the whole shelf)"
                    value={folder}
                    onChange={(e) => setFolder(e.target.value)}
                  />
                  {folder && (
                    <Field
                      id="link-place"
                      label="Where it is in the repository (empty: a folder is its root)"
                      value={place}
                      onChange={(e) => setPlace(e.target.value)}
                    />
                  )}
                  <Access id="new" address={address} said={access} onSay={setAccess} />
                </>
              )}
            </li>
            <li className={step > 2 ? "done" : step === 2 ? "now" : "open"}>
              <b>What it joins</b>
              {step === 1 ? (
                <span className="cap">{folder ? `All branches, with ${folder} alone` : "All branches and tags, under the same names"}</span>
              ) : (
                <>
                  <Choice id="link-way" label="Which way" disabled={step > 2} value={way} onChange={(e) => setWay(wayOf(e.target.value))}>
                    {WAYS.map(([id, words]) => (
                      <option key={id} value={id}>
                        {words}
                      </option>
                    ))}
                  </Choice>
                  <Choice
                    id="link-parts"
                    label="Where parts of notebooks, apps, tests and archives lie there"
                    disabled={step > 2}
                    value={parts}
                    onChange={(e) => setParts(partsOf(e.target.value))}
                  >
                    {PARTS.map(([id, words]) => (
                      <option key={id} value={id}>
                        {words}
                      </option>
                    ))}
                  </Choice>
                  <CheckField disabled={step > 2} checked={follows} onChange={(e) => setFollows(e.target.checked)}>
                    Follow: keep both sides in step
                  </CheckField>
                </>
              )}
            </li>
            <li className={step === 3 ? "now" : "open"}>
              <b>Look before anything moves</b>
              {step === 3 && tried && (
                <dl>
                  <dt>Would fetch</dt>
                  <dd>{tried.would_fetch ? count(tried.would_fetch, "commit") : "nothing"}</dd>
                  <dt>Would send</dt>
                  <dd>{tried.would_send ? count(tried.would_send, "commit") : "nothing"}</dd>
                  {(tried.odd_names?.length ?? 0) > 0 && (
                    <>
                      <dt>Stays there</dt>
                      <dd>{tried.odd_names?.join(", ")}</dd>
                    </>
                  )}
                </dl>
              )}
            </li>
          </ol>
          {error && <ProblemBox error={error} />}
          <div className="acts">
            <Button onClick={() => leave.mutate()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={next.isPending}>
              {step === 1 ? "Try it" : step === 2 ? "Look at what it would do" : follows ? "Follow" : way === "send" ? "Send" : "Fetch"}
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
