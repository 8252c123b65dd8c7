import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import type { Environment } from "../../api/queries";
import { Ask } from "../../parts/Ask";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { useDone } from "../../shell/Done";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

/** What an environment asks for and what it leaves out. */
export function GatesPanel({ environment: e }: { environment: Environment }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const quiet = e.gates.quiet?.[0];
  const [fed, setFed] = useState(e.fed_from);
  const [guarded, setGuarded] = useState(!!e.gates.guarded);
  const [earlier, setEarlier] = useState(e.earlier_first);
  const [reviews, setReviews] = useState(String(e.gates.reviews ?? 0));
  const [checks, setChecks] = useState((e.gates.checks ?? []).join(", "));
  const [from, setFrom] = useState(quiet?.from ?? "");
  const [to, setTo] = useState(quiet?.to ?? "");
  const [drift, setDrift] = useState(!!e.gates.drift);
  const [patterns, setPatterns] = useState((e.left_out.patterns ?? []).join(", "));
  const [kinds, setKinds] = useState((e.left_out.kinds ?? []).join(", "));
  const [records, setRecords] = useState(e.records.join(", "));
  const [watch, setWatch] = useState(String(e.watch_minutes));
  const done = useDone();
  const change = useMutation({
    mutationFn: () =>
      answer(
        api.PATCH("/shelves/{shelf}/environments/{name}", {
          params: { path: { shelf: key, name: e.name } },
          body: {
            fed_from: fed,
            earlier_first: earlier,
            watch_minutes: Number(watch) || 0,
            ...(e.destination === "database" ? { records: list(records) } : {}),
            left_out: { patterns: list(patterns), kinds: list(kinds) },
            gates: {
              guarded,
              reviews: Number(reviews) || 0,
              checks: list(checks),
              drift,
              quiet: from && to ? [{ ...quiet, from, to }, ...(e.gates.quiet ?? []).slice(1)] : [],
            },
          },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      const { fed_from, earlier_first, watch_minutes, left_out, gates, records: filled } = e;
      const was = { fed_from, earlier_first, watch_minutes, left_out, gates, ...(e.destination === "database" ? { records: filled } : {}) };
      done({
        said: `The settings of ${e.name} are changed.`,
        undo: () =>
          answer(api.PATCH("/shelves/{shelf}/environments/{name}", { params: { path: { shelf: key, name: e.name } }, body: was })),
      });
    },
  });
  return (
    <section className="sheet" aria-label={`Settings of ${e.name}`}>
      <div className="ph">
        <h2 className="h3">Settings of {e.name}</h2>
        <span className="cap">
          {e.destination} {e.address}
          {e.subfolder ? `, folder ${e.subfolder}` : ""}
          {e.has_token ? ", with a token" : ""}
        </span>
      </div>
      <form
        className="pad gatesform"
        onSubmit={(ev) => {
          ev.preventDefault();
          change.mutate();
        }}
      >
        <fieldset>
          <legend>Gates</legend>
          <Field label="Only tags on this branch" value={fed} onChange={(ev) => setFed(ev.target.value)} placeholder="any branch" />
          <CheckField checked={guarded} onChange={(ev) => setGuarded(ev.target.checked)}>
            Only from a guarded branch
          </CheckField>
          <CheckField checked={earlier} onChange={(ev) => setEarlier(ev.target.checked)}>
            The environment before it first
          </CheckField>
          <Field
            label="Approvals needed from people other than the author"
            type="number"
            min={0}
            max={20}
            value={reviews}
            onChange={(ev) => setReviews(ev.target.value)}
          />
          <Field
            label="Checks that must have passed"
            value={checks}
            onChange={(ev) => setChecks(ev.target.value)}
            placeholder="fare rules, smoke"
          />
          <div className="line1">
            <Field type="time" label="Quiet from" value={from} onChange={(ev) => setFrom(ev.target.value)} />
            <Field type="time" label="to" aria-label="Quiet to" value={to} onChange={(ev) => setTo(ev.target.value)} />
          </div>
          <CheckField checked={drift} onChange={(ev) => setDrift(ev.target.checked)}>
            No drift: refuse to overwrite changes made there
          </CheckField>
        </fieldset>
        <fieldset>
          <legend>Exclusions and drift checks</legend>
          {e.destination === "database" && (
            <Field
              label="Tables whose records come along"
              value={records}
              onChange={(ev) => setRecords(ev.target.value)}
              placeholder="vessels, fares_*"
            />
          )}
          <Field
            label="Artifacts that do not go there"
            value={patterns}
            onChange={(ev) => setPatterns(ev.target.value)}
            placeholder="notes/*, access/*"
          />
          <Field
            label="Kinds that do not go there"
            value={kinds}
            onChange={(ev) => setKinds(ev.target.value)}
            placeholder="tests, report"
          />
          <Field
            label="Look for drift every so many minutes (0: never)"
            type="number"
            min={0}
            value={watch}
            onChange={(ev) => setWatch(ev.target.value)}
          />
        </fieldset>
        <div>
          <Button type="submit" variant="contained" disabled={change.isPending}>
            Save settings
          </Button>
          {change.isSuccess && (
            <span className="sec" role="status">
              {" "}
              kept
            </span>
          )}{" "}
          {(e.trial_of || !e.current) && <RemoveEnvironment environment={e} />}
        </div>
        {change.isError && <ProblemBox error={change.error} />}
      </form>
    </section>
  );
}

/** Only of one that nothing was deployed to, or of a trial: of the others the record is kept. */
function RemoveEnvironment({ environment: e }: { environment: Environment }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const done = useDone();
  return (
    <Ask
      label={e.trial_of ? "End this trial" : "Remove this environment"}
      title={e.trial_of ? `End the trial ${e.name}` : `Remove ${e.name}`}
      does={
        e.trial_of
          ? "Removes what was deployed there, and the environment. You cannot undo this. The log keeps its entries."
          : "Its settings and the values of its bindings are gone. Nothing was deployed there, and nothing is removed there."
      }
      act={e.trial_of ? "End it" : "Remove it"}
      onAct={async () => {
        await answer(api.DELETE("/shelves/{shelf}/environments/{name}", { params: { path: { shelf: key, name: e.name } } }));
        done({ said: `${e.name} is removed.` });
        await queries.invalidateQueries({ queryKey: ["shelf", key] });
      }}
    />
  );
}

function list(text: string): string[] {
  return text
    .split(",")
    .map((t) => t.trim())
    .filter(Boolean);
}
