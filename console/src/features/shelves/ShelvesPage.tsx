import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { answer, api } from "../../api/client";
import { shelves } from "../../api/queries";
import { count } from "../../marks/words";
import { Field } from "../../parts/Field";
import { Sheet, type SheetState, useSheet } from "../../parts/Sheet";
import { FindLink } from "../../shell/FindKey";
import { Logo } from "../../shell/Page";
import { Person } from "../../shell/Person";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { NewsOnShelves } from "../news/NewsOnShelves";
import { MAIN, StoreChoice } from "../people/StoreChoice";
import { WaitingList } from "../proposals/WaitingList";

export function ShelvesPage() {
  const found = useQuery(shelves());
  const dialog = useSheet();
  useEffect(() => {
    document.title = "Shelves · Every Shelf";
  }, []);
  return (
    <>
      <header className="addr">
        <Logo />
        <div className="say">
          <b>Every Shelf</b>
        </div>
        <div className="right">
          <FindLink>Find on all shelves</FindLink>
          <Person />
        </div>
      </header>
      <div className="board" />
      <main id="page">
        <div className="line1">
          <h1>{found.data ? `${count(found.data.length, "shelf", "shelves")}` : "Shelves"}</h1>
          <span className="end">
            <Button variant="contained" onClick={() => dialog.show()}>
              Make a shelf
            </Button>
          </span>
        </div>
        {found.isPending && <Loading what="Reading the shelves" />}
        {found.isError && <ProblemBox error={found.error} />}
        {found.data?.length === 0 && (
          <Empty>
            A shelf holds versioned artifacts: pipelines, datasets, models, workflows and tests. Make the first one; it can be used at once.
          </Empty>
        )}
        <div className="cards">
          {found.data?.map((s) => (
            <Link key={s.key} className="sheet card" to={`/s/${s.key}`}>
              <h2>{s.name}</h2>
              <p className="sec sm">{s.description || "No description yet."}</p>
              <p className="cap" style={{ marginTop: 8 }}>
                {count(s.commits, "commit")}, {count(s.branches, "branch", "branches")}, {count(s.tags, "tag")},{" "}
                {count(s.environments, "environment")}; you are {s.role}
              </p>
            </Link>
          ))}
        </div>
        <WaitingList />
        <NewsOnShelves />
        <MakeShelf dialog={dialog} />
      </main>
    </>
  );
}

function MakeShelf({ dialog }: { dialog: SheetState }) {
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const [store, setStore] = useState(MAIN);
  const go = useNavigate();
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: () => answer(api.POST("/shelves", { body: { name, description, store } })),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["shelves"] });
      dialog.hide();
      await go(`/s/${made.key}`);
    },
  });
  return (
    <Sheet of={dialog} label="Make a shelf">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <h2 id="make-shelf">Make a shelf</h2>
        <Field id="shelf-name" label="Name" required maxLength={120} value={name} onChange={(e) => setName(e.target.value)} />
        <Field id="shelf-description" label="What it is for" value={description} onChange={(e) => setDescription(e.target.value)} />
        {dialog.shown && <StoreChoice value={store} onChange={setStore} />}
        {make.isError && <ProblemBox error={make.error} />}
        <div className="acts">
          <Button onClick={() => dialog.hide()}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={make.isPending}>
            Make the shelf
          </Button>
        </div>
      </form>
    </Sheet>
  );
}
