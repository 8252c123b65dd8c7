/** Which service has a bucket, where that is not the default one. */
import { Field } from "./Field";

export function EndpointField({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return (
    <Field
      label="Address of the service that has the bucket, if it is one of your own"
      mono
      placeholder="https://HOST"
      value={value}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}
