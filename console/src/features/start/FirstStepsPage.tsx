/** What a person can do first, by the role they have here. */
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { shelf } from "../../api/queries";
import { useOwnKeys } from "../../shell/ownKeys";
import { Page, useShelfKey } from "../../shell/Page";
import { readSteps } from "./read";
import { stepsOf, withArticle } from "./steps";

export function FirstStepsPage() {
  const key = useShelfKey();
  const info = useQuery(shelf(key)).data;
  const keys = useOwnKeys();
  const role = info?.role ?? "reader";
  useEffect(() => {
    if (info?.role) readSteps(key, info.role);
  }, [key, info]);
  return (
    <Page page="first-steps" title="First steps" at={info?.main_branch ?? "main"} say={<i className="j">first steps</i>}>
      <h1>
        What you can do on {info?.name ?? "this shelf"} as {withArticle(role)}.
      </h1>
      <p className="sec">
        In the order in which most begin. The key <kbd>{keys.help || "(off)"}</kbd> explains the words of each page,{" "}
        <kbd>{keys.go || "(off)"}</kbd> leads to any page by typing, <kbd>{keys.find || "(off)"}</kbd> finds what is inside artifacts.
      </p>
      <ol className="firststeps">
        {stepsOf(role).map((step) => (
          <li key={step.name} className="sheet pad">
            <h2 className="h3">{step.name}</h2>
            <p>{step.says}</p>
            <p>
              <Link to={`/s/${key}${step.to}`}>{step.link}</Link>
            </p>
          </li>
        ))}
      </ol>
    </Page>
  );
}
