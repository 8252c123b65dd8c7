/** What others did on a shelf since one last looked. */
import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { count, group, when } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { useDone } from "../../shell/Done";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { NewsTable } from "./NewsTable";
import { followed, look, type News, news } from "./queries";

/** The service counts no further. */
const MOST_COUNTED = 1000;

export function NewsPage() {
  const key = useShelfKey();
  const [only, setOnly] = useParam("only");
  const [all, setAll] = useParam("all");
  const found = useInfiniteQuery(news(key, only === "followed", all === "yes"));
  const first = found.data?.pages[0];
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <Page page="news" title="News" at="main" say={<i className="j">news</i>}>
      <div className="line1">
        <h1>{first ? sentence(first) : "News"}</h1>
        <span className="end">
          <Switch label="What is shown">
            <Part pressed={only !== "followed"} onClick={() => setOnly("")}>
              Everything
            </Part>
            <Part pressed={only === "followed"} onClick={() => setOnly("followed")}>
              Only what I follow
            </Part>
          </Switch>
          <TextAct onClick={() => setAll(all === "yes" ? "" : "yes")}>
            {all === "yes" ? "Hide what I have seen" : "Show what I have seen"}
          </TextAct>
          {first && <Seen of={first} />}
        </span>
      </div>
      {found.isPending && <Loading what="Reading the log" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && items.length === 0 && (
        <Empty>
          {only === "followed"
            ? "Nothing new about what you follow. Follow an artifact on its page, a branch in the list of branches."
            : "Nothing new. What others commit, tag, propose, promote or change appears here by itself."}
        </Empty>
      )}
      {items.length > 0 && (
        <section className="sheet scroll" aria-label="News">
          <NewsTable shelf={key} items={items} label="What others did" after={all === "yes" ? first?.seen : undefined} />
          {found.hasNextPage && (
            <p className="pad">
              <TextAct onClick={() => void found.fetchNextPage()}>Earlier</TextAct>
            </p>
          )}
        </section>
      )}
      <FollowedThings />
    </Page>
  );
}

function sentence(of: News): string {
  const since = of.since ? `since you looked, ${when(of.since)}` : "in the last two weeks";
  if (of.count === 0) return `Nothing new ${since}.`;
  if (of.count === 1) return `Others did one thing ${since}.`;
  return `Others did ${of.count < MOST_COUNTED ? of.count : `${group(MOST_COUNTED)} or more`} things ${since}.`;
}

/** One click says that all of it is seen; what was new before can be made new again. */
function Seen({ of }: { of: News }) {
  const queries = useQueryClient();
  const done = useDone();
  const seen = useMutation({
    mutationFn: () => look(of.shelf, of.newest),
    onSuccess: async () => {
      await queries.invalidateQueries();
      done({ said: `${count(of.count, "entry", "entries")} marked as seen.`, undo: () => look(of.shelf, of.seen) });
    },
  });
  return (
    <>
      <Button variant="contained" disabled={of.count === 0 || seen.isPending} onClick={() => seen.mutate()}>
        Mark all as seen
      </Button>
      {seen.isError && <ProblemBox error={seen.error} />}
    </>
  );
}

function FollowedThings() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const found = useQuery(followed(key));
  const stop = useMutation({
    mutationFn: (one: { artifact: string | null; branch: string | null }) =>
      answer(api.POST("/shelves/{shelf}/followed/stop", { params: { path: { shelf: key } }, body: one })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  if (!found.data?.length) return null;
  return (
    <section className="sheet" style={{ marginTop: 10, maxWidth: 900 }} aria-label="What you follow">
      <div className="ph">
        <h2 className="h3">You follow {count(found.data.length, "thing")}</h2>
      </div>
      <ul className="plainlist pad">
        {found.data.map(({ artifact, branch }) => (
          <li key={`${artifact} ${branch}`}>
            {artifact ? (
              <Link to={`/s/${key}/artifact?${new URLSearchParams({ path: artifact })}`}>{artifact}</Link>
            ) : (
              <>
                branch{" "}
                <Link className="mono" to={`/s/${key}?ref=${encodeURIComponent(branch ?? "")}`}>
                  {branch}
                </Link>
              </>
            )}{" "}
            <TextAct aria-label={`Follow no longer ${artifact ?? branch}`} onClick={() => stop.mutate({ artifact, branch })}>
              Follow no longer
            </TextAct>
          </li>
        ))}
      </ul>
    </section>
  );
}
