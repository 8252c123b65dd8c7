/** What the keys do. */
import { KEYS } from "./keys";

export function KeyList() {
  return (
    <dl className="keys" aria-label="Keys">
      {KEYS.map(([key, does]) => (
        <div key={key}>
          <dt>
            <kbd>{key}</kbd>
          </dt>
          <dd>{does}</dd>
        </div>
      ))}
    </dl>
  );
}
