/** Beside a finding, when it is looked at from a proposal: a remark on the part it is about. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import type { Finding } from "../../api/queries";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";

export function RemarkOnPart({ shelf, path, finding }: { shelf: string; path: string; finding: Finding }) {
  const [number] = useParam("proposal");
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const say = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/proposals/{number}/remarks", {
          params: { path: { shelf, number: Number(number) } },
          body: {
            text,
            path,
            part: finding.action === "removed" ? "" : finding.part,
            label: finding.field ? `${finding.label}, ${finding.field}` : finding.label,
          },
        }),
      ),
    onSuccess: async () => {
      setText("");
      await queries.invalidateQueries({ queryKey: ["shelf", shelf, "proposal"] });
    },
  });
  if (!number) return null;
  return (
    <form
      className="sheet pad"
      aria-label="Remark on this part"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate();
      }}
    >
      <Field
        label={`Remark on ${finding.label}`}
        id="part-remark"
        rows={2}
        required
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <span className="cap">It follows this part when it moves.</span>
      {say.isError && <ProblemBox error={say.error} />}
      <div className="line1">
        <Button type="submit" variant="outlined" disabled={say.isPending}>
          Add remark
        </Button>
        {say.isSuccess && (
          <span role="status" className="sec">
            Added to proposal {number}.
          </span>
        )}
        <span className="end">
          <Link to={`/s/${shelf}/proposals/${number}`}>Back to proposal {number}</Link>
        </span>
      </div>
    </form>
  );
}
