/** Choosing a tag for an environment, rehearsing it, promoting it, and what came of it. */
import { Button } from "@mui/material";
import type { Environment } from "../../api/queries";
import { TextAct } from "../../parts/Acts";
import { ProblemBox } from "../../shell/states";
import { JobProgress } from "./JobProgress";
import type { Panel } from "./panels";
import type { Promotion } from "./promotion";
import { RehearsalView } from "./RehearsalView";
import { TagChoice } from "./TagChoice";

interface Props {
  environment: Environment;
  wanted: string;
  promotion: Promotion;
  onTag: (tag: string) => void;
  onPanel: (panel: Panel) => void;
}

export function RehearsalPanel({ environment: e, wanted, promotion, onTag, onPanel }: Props) {
  const { rehearsal, start, running } = promotion;
  const rehearse = () => promotion.rehearse(e.name, wanted);
  return (
    <>
      {running?.environment === e.name && <JobProgress key={running.job} uid={running.job} onDone={() => void promotion.ended()} />}
      <div className="line1 pick">
        <TagChoice id="tag-to-put" label={<>Tag for {e.name}</>} value={wanted} onChoose={onTag} />
        <Button variant="outlined" disabled={!wanted || rehearsal.isPending} onClick={rehearse}>
          {rehearsal.data ? "Rehearse again" : "Rehearse"}
        </Button>
        {rehearsal.isPending && (
          <span className="sec" role="status">
            Rehearsing; nothing is touched …
          </span>
        )}
      </div>
      {rehearsal.isError && <ProblemBox error={rehearsal.error} />}
      {rehearsal.data && (
        <RehearsalView
          rehearsal={rehearsal.data}
          busy={promotion.busy}
          onAgain={rehearse}
          onPanel={onPanel}
          onPromote={(said) => start.mutate({ environment: e.name, act: "promote", body: { tag: wanted, ...said } })}
        />
      )}
      {start.isError && start.variables?.environment === e.name && (
        <>
          <ProblemBox error={start.error} />
          {promotion.lost.length > 0 && (
            <p className="pad">
              <TextAct onClick={promotion.lose}>Lose {promotion.lost.join(", ")}, and go on</TextAct>
            </p>
          )}
        </>
      )}
    </>
  );
}
