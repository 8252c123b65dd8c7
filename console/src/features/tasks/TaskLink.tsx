import { Link } from "react-router";
import { useShelfKey } from "../../shell/Page";

/** The id of a task; leads to its page. */
export function TaskLink({ task }: { task: string }) {
  return (
    <Link className="mut" style={{ marginLeft: 8 }} to={`/s/${useShelfKey()}/tasks?task=${encodeURIComponent(task)}`}>
      {task}
    </Link>
  );
}
