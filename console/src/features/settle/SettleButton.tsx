import { Button } from "@mui/material";
import { Link } from "react-router";
import { ProblemError } from "../../api/client";
import { useShelfKey } from "../../shell/Page";

/** True for a refusal that left a merge to be settled. */
export function isWaiting(error: unknown): error is ProblemError {
  return error instanceof ProblemError && Boolean(error.problem.merge);
}

/** Leads from a merge that was refused to where it is settled. */
export function SettleButton({ error }: { error: unknown }) {
  const key = useShelfKey();
  if (!isWaiting(error)) return null;
  return (
    <Button variant="contained" component={Link} to={`/s/${key}/settle/${error.problem.merge}`}>
      Settle them
    </Button>
  );
}
