/** One part, line or row over time: every form it had, newest first, with who, when and why. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { forms } from "../../api/queries";
import type { components } from "../../api/schema";
import { count, tone, value, when } from "../../marks/words";
import { Loading, ProblemBox } from "../../shell/states";
import { Inline } from "../compare/Worded";
import { TaskLink } from "../tasks/TaskLink";

type Form = components["schemas"]["PartForm"];
const FIELDS = 12;

interface Asked {
  shelf: string;
  path: string;
  at: string;
  version: string | undefined;
  of: Record<string, string>;
  versions: number;
}

export function FormsPanel({ shelf, path, at, version, of, versions }: Asked) {
  const found = useQuery(forms(shelf, path, at, version, of));
  const title = of.row !== undefined ? "One row over time" : of.line !== undefined ? "One line over time" : "One part over time";
  if (found.isPending) return <Loading what="Reading its forms" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const told = found.data;
  const newest = told.forms[0]?.commit.version;
  return (
    <section className="sheet" aria-label={title}>
      <div className="ph">
        <h2 className="h3">{title}</h2>
        <span className="cap r">
          {count(told.forms.length, "form")} in {count(versions, "version")}
        </span>
      </div>
      <div className="pad">
        <h2 className="formtitle">{told.type === "line" ? `Line ${of.line ?? ""}` : told.label || told.type}</h2>
        <p className="mono mut" style={{ overflowWrap: "anywhere" }}>
          {told.part}
        </p>
        <Lasting forms={told.forms} />
      </div>
      <ol className="forms">
        {told.forms.map((form, i) => (
          <li key={form.commit.commit} className={i === 0 ? "on" : ""}>
            <i className={`tone${tone(form.commit.recorded)}`} aria-hidden="true" />
            <div>
              <Said form={form} />
              <p>
                <b>{form.commit.author}</b>, {when(form.commit.recorded)}, “{form.commit.summary}”
              </p>
              <p className="mut">
                commit{" "}
                <Link className="mono" to={`/s/${shelf}/commit/${form.commit.commit}`}>
                  {form.commit.commit.slice(0, 8)}
                </Link>
                {form.commit.tasks.map((task) => (
                  <TaskLink key={task} task={task} />
                ))}
                {form.commit.merge && ", a merge"}
                {form.commit.others > 0 && `; also touched ${count(form.commit.others, "other artifact")}`}
                {form.commit.path !== path && `; then ${form.commit.path}`}
              </p>
            </div>
            <Link
              className="ver1"
              aria-label={`v${form.commit.version ?? ""}, the artifact as it was`}
              to={`/s/${shelf}/artifact?${new URLSearchParams({ path, version: String(form.commit.version ?? "") })}`}
            >
              v{form.commit.version}
            </Link>
          </li>
        ))}
      </ol>
      {newest && newest > 1 && (
        <p className="pad">
          <Link to={`/s/${shelf}/compare?${new URLSearchParams({ path, from: `version:${newest - 1}`, to: `version:${newest}` })}`}>
            Compare version {newest} with the one before
          </Link>
        </p>
      )}
    </section>
  );
}

/** How long each form lasted, the oldest first. */
function Lasting({ forms: told }: { forms: Form[] }) {
  const kept = [...told].reverse().filter((form) => form.action !== "looks");
  if (kept.length < 2) return null;
  const times = kept.map((form) => new Date(form.commit.recorded).getTime());
  const end = Date.now();
  const start = times[0] ?? end;
  return (
    <div
      className="lasting"
      role="img"
      aria-label={`How long each lasted: ${kept.map((form) => `${when(form.commit.recorded)} by ${form.commit.author}`).join(", then ")}`}
    >
      {kept.map((form, i) => {
        const until = times[i + 1] ?? end;
        return (
          <span
            key={form.commit.commit}
            className={`tone${tone(form.commit.recorded)}`}
            style={{ flexGrow: Math.max((until - (times[i] ?? start)) / Math.max(end - start, 1), 0.02) }}
            title={`v${form.commit.version ?? ""}, since ${when(form.commit.recorded)}`}
          />
        );
      })}
    </div>
  );
}

function Said({ form }: { form: Form }) {
  if (form.before != null || form.after != null)
    return (
      <p className="mono code">
        <Inline before={form.before ?? null} after={form.after ?? null} />
      </p>
    );
  const fields = form.fields ?? [];
  const within = form.within ?? 0;
  if (fields.length === 0 && within === 0)
    return (
      <p>
        <b>{{ added: "Added", moved: "Moved", looks: "Changed in looks only", removed: "Removed", changed: "Changed" }[form.action]}</b>
      </p>
    );
  return (
    <>
      {fields.slice(0, FIELDS).map((field) => (
        <p key={field.name} className="mono code">
          <span className="mut">{field.name || "name"}: </span>
          <Inline
            before={field.before == null ? null : value(field.before)}
            after={field.touch === "removed" || field.after == null ? null : value(field.after)}
          />
          {field.touch === "looks" && <i className="w"> cosmetic</i>}
        </p>
      ))}
      {fields.length > FIELDS && <p className="mut">and {fields.length - FIELDS} more</p>}
      {within > 0 && <p>{count(within, "part")} in it changed</p>}
    </>
  );
}
