/** What the keys do; with `change`, the three that work on every page can be changed or turned off. */
import { useState } from "react";
import { TextAct } from "../parts/Acts";
import { Field } from "../parts/Field";
import { ACTS, KEYS, USUAL_KEYS, wrongKey } from "./keys";
import { keepKeys, useOwnKeys } from "./ownKeys";

export function KeyList({ change = false }: { change?: boolean }) {
  const own = useOwnKeys();
  const [changing, setChanging] = useState(false);
  return (
    <>
      {changing && <OwnKeyFields />}
      <dl className="keys" aria-label="Keys">
        {!changing && ACTS.filter(([act]) => own[act] !== "").map(([act, does]) => <KeyRow key={act} name={own[act]} does={does} />)}
        {KEYS.map(([key, does]) => (
          <KeyRow key={key} name={key} does={does} />
        ))}
      </dl>
      {change && <TextAct onClick={() => setChanging(!changing)}>{changing ? "Keys are as I want them" : "Change keys"}</TextAct>}
    </>
  );
}

function KeyRow({ name, does }: { name: string; does: string }) {
  return (
    <div>
      <dt>
        <kbd>{name}</kbd>
      </dt>
      <dd>{does}</dd>
    </div>
  );
}

function OwnKeyFields() {
  const own = useOwnKeys();
  const [wrong, setWrong] = useState("");
  const set = (act: (typeof ACTS)[number][0], key: string) => {
    const why = wrongKey(own, act, key);
    setWrong(why);
    if (!why) keepKeys({ ...own, [act]: key });
  };
  return (
    <fieldset className="ownkeys">
      <legend>Your keys, in this browser; an empty field turns one off</legend>
      {ACTS.map(([act, does]) => (
        <Field
          key={act}
          label={`To ${does}`}
          mono
          maxLength={1}
          autoComplete="off"
          value={own[act]}
          onFocus={(e) => e.target.select()}
          onChange={(e) => set(act, e.target.value)}
        />
      ))}
      {wrong && <p role="alert">{wrong}</p>}
      <TextAct
        onClick={() => {
          setWrong("");
          keepKeys(USUAL_KEYS);
        }}
      >
        Usual keys
      </TextAct>
    </fieldset>
  );
}
