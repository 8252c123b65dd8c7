/** Find: the field is the page; what holds the words on the left, the chosen place beside it. */

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { shelves } from "../../api/queries";
import { count, group } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Logo, WaitingChip } from "../../shell/Page";
import { Person } from "../../shell/Person";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { Choices } from "./Choices";
import { Hits } from "./Hits";
import { FILTERS, type Filters, type FoundArtifact, type FoundPlace, found as foundQuery } from "./queries";
import { Where } from "./Where";

export interface Chosen {
  item: FoundArtifact;
  place: FoundPlace | null;
}

export function FindPage() {
  const [params, setParams] = useSearchParams();
  const go = useNavigate();
  const field = useRef<HTMLInputElement>(null);
  const words = params.get("words") ?? "";
  const [typed, setTyped] = useState(words);
  const [shown, setShown] = useState(words);
  if (shown !== words) {
    // the address changed: by a link, or by going back
    setShown(words);
    setTyped(words);
  }
  const [chosen, setChosen] = useState<Chosen | null>(null);
  const filters: Filters = Object.fromEntries(FILTERS.flatMap((name) => (params.get(name) ? [[name, params.get(name) ?? ""]] : [])));
  const isAsked =
    words.trim() !== "" || FILTERS.some((name) => filters[name] && name !== "shelf" && name !== "order" && name !== "history");
  const found = useInfiniteQuery({ ...foundQuery(words, filters), enabled: isAsked });
  const all = useQuery(shelves());
  useEffect(() => {
    document.title = `${words ? `${words}, find` : "Find"} · Every Shelf`;
  }, [words]);
  useEffect(() => field.current?.focus(), []);
  const set = (name: string, value: string) =>
    setParams((old) => {
      const now = new URLSearchParams(old);
      if (value) now.set(name, value);
      else now.delete(name);
      return now;
    });
  const pages = isAsked ? (found.data?.pages ?? []) : [];
  const first = pages[0];
  const items = pages.flatMap((page) => page.items);
  const places = items.flatMap((item) => [{ item, place: null as FoundPlace | null }, ...item.places.map((place) => ({ item, place }))]);
  const move = (step: number) => {
    const at = places.findIndex((one) => one.item === chosen?.item && one.place === chosen.place);
    const next = places[Math.min(Math.max(at + step, 0), places.length - 1)];
    if (next) {
      setChosen(next);
      document.getElementById(idOf(next))?.scrollIntoView({ block: "nearest" });
    }
  };
  const keys = (event: React.KeyboardEvent) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      move(event.key === "ArrowDown" ? 1 : -1);
    } else if (event.key === "Escape") {
      void go(-1);
    } else if (event.key === "Enter" && chosen && typed === words) {
      void go(addressOf(chosen));
    }
  };
  const now = chosen && items.includes(chosen.item) ? chosen : (places[0] ?? null);
  return (
    <div onKeyDown={keys} role="presentation">
      <header className="addr">
        <Link to="/" aria-label="All shelves" style={{ display: "flex" }}>
          <Logo />
        </Link>
        <div className="say">
          <b>Find</b>
          <i>on</i>
          <Choice aria-label="Shelf looked through" value={filters.shelf ?? ""} onChange={(e) => set("shelf", e.target.value)}>
            <option value="">all {all.data?.length ?? ""} shelves</option>
            {all.data?.map((s) => (
              <option key={s.key} value={s.key}>
                {s.name}
              </option>
            ))}
          </Choice>
        </div>
        <div className="right">
          <WaitingChip />
          <Person />
        </div>
      </header>
      <div className="board" />
      <main id="page">
        <form
          role="search"
          className="findbar"
          onSubmit={(e) => {
            e.preventDefault();
            if (typed !== words) set("words", typed);
          }}
        >
          <Field
            ref={field}
            className="findfield"
            aria-label="Words to find"
            placeholder="Words in any form, or an &quot;exact phrase&quot;"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
          />
          <TextAct type="submit">Find</TextAct>
          {words && (
            <TextAct
              onClick={() => {
                setTyped("");
                set("words", "");
                field.current?.focus();
              }}
            >
              Clear
            </TextAct>
          )}
          <h1>
            {first ? `${first.more ? "Over " : ""}${count(first.total, "artifact")} on ${count(first.shelves, "shelf", "shelves")}.` : ""}
          </h1>
        </form>
        {first && first.commits > 0 && (
          <p className="cap">
            {first.commits === 1 ? "1 commit says" : `${group(first.commits)} commits say`} the same
            {filters.shelf ? (
              <>
                : <Link to={`/s/${filters.shelf}/history?${new URLSearchParams({ words })}`}>see them</Link>
              </>
            ) : (
              "; see the history of a shelf"
            )}
            .
          </p>
        )}
        {first && first.unread > 0 && (
          <p className="cap" role="status">
            {count(first.unread, "version")} still to be read; what they hold will appear here.
          </p>
        )}
        {isAsked && found.isPending && <Loading what="Looking" />}
        {isAsked && found.isError && <ProblemBox error={found.error} />}
        {!isAsked && (
          <Empty>
            Names, labels, fields, lines, cells and columns of everything you may see. Type a word; an exact phrase goes in quotes.
          </Empty>
        )}
        {first && (
          <div className="cols-find">
            <Choices found={first} filters={filters} onSet={set} />
            <div>
              {items.length === 0 ? (
                <Empty>
                  Nothing holds all of that. Take a word or a filter away
                  {filters.history ? "" : ", or look through earlier versions too"}.
                </Empty>
              ) : (
                <Hits
                  items={items}
                  chosen={now}
                  order={filters.order ?? ""}
                  onOrder={(order) => set("order", order)}
                  onChoose={setChosen}
                />
              )}
              {found.hasNextPage && (
                <p className="foot">
                  <TextAct onClick={() => void found.fetchNextPage()}>Show more</TextAct>
                </p>
              )}
            </div>
            {now && <Where chosen={now} />}
          </div>
        )}
      </main>
    </div>
  );
}

export function idOf(one: Chosen): string {
  return `found-${one.item.shelf}-${one.item.path}-${one.place ? `${one.place.part}-${one.place.field}-${one.place.text}` : ""}`;
}

/** The page that shows the artifact, at the branch it was found on or as the version it was. */
export function addressOf({ item, place }: Chosen, view = ""): string {
  const branch = item.branches[0];
  const query = new URLSearchParams({ path: item.path });
  if (branch && branch !== "main") query.set("ref", branch);
  if (!branch && item.version) query.set("version", String(item.version));
  const line = place ? /^\/line:(\d+)$/.exec(place.part)?.[1] : undefined;
  if (view === "origins") {
    query.set("view", "origins");
    if (line) {
      query.set("form", "lines");
      query.set("line", line);
    } else if (place && place.type !== "column" && place.type !== "cell") query.set("part", place.part);
  } else if (line) query.set("view", "text");
  return `/s/${item.shelf}/artifact?${query}`;
}
