/** Where an edit is: in words, quietly. */

import type { Problem } from "../../api/client";
import { when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import type { SaveState } from "./autosave";

interface Props {
  state: SaveState;
  /** A cell is being typed into, and not left yet. */
  typing: boolean;
  saved: string | null;
  problem: Problem | null;
  onInsist: () => void;
  onReload: () => void;
}

export function SavedNote({ state, typing, saved, problem, onInsist, onReload }: Props) {
  const time = saved ? when(saved) : "";
  const words: Record<SaveState, string> = {
    same: "Every edit is saved into your draft.",
    edited: "Edited …",
    saving: "Saving …",
    saved: `Saved ${time}`,
    "kept here": `Out of reach. What you wrote is kept in this browser and sent when the service answers${time ? `; saved last ${time}` : ""}.`,
    "signed out": "You were signed out. What you wrote is kept in this browser and saved once you sign in again.",
    moved: "",
    refused: "",
  };
  return (
    <>
      <span className={state === "kept here" || state === "signed out" ? "savednote away" : "savednote"} data-state={state}>
        {typing && state !== "kept here" && state !== "signed out"
          ? "Typing … Enter saves the cell, Esc leaves it as it was."
          : words[state]}
      </span>
      {(state === "moved" || state === "refused") && problem && (
        <div className="problem" role="alert" style={{ flexBasis: "100%" }}>
          <p>
            <b>{problem.detail.charAt(0).toUpperCase() + problem.detail.slice(1)}.</b> What you wrote is still here.
          </p>
          {problem.hint && <p>{problem.hint}</p>}
          <p>
            {state === "moved" && <TextAct onClick={onInsist}>Overwrite with my version</TextAct>}{" "}
            <TextAct onClick={onReload}>Show what is saved</TextAct>
          </p>
          <p className="cap">{problem.code}</p>
        </div>
      )}
    </>
  );
}
