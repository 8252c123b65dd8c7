/** How a link is let in at its repository: user and token, or a key for SSH. All of it is kept encrypted. */
import { Field } from "../../parts/Field";
import type { GitLink } from "./queries";

export interface AccessSaid {
  user: string;
  token: string;
  key: string;
  known_hosts: string;
}
export const NO_ACCESS: AccessSaid = { user: "", token: "", key: "", known_hosts: "" };

/** Whether an address is reached with SSH: `ssh://HOST/PATH` or `USER@HOST:PATH`. */
export function isSsh(address: string): boolean {
  return address.startsWith("ssh://") || /^[^/@:]+@[^/:]+:/.test(address);
}

export function Access({
  id,
  address,
  said,
  known,
  onSay,
}: {
  id: string;
  address: string;
  said: AccessSaid;
  known?: GitLink;
  onSay: (said: AccessSaid) => void;
}) {
  const field = (name: keyof AccessSaid) => ({
    id: `access-${name}-${id}`,
    autoComplete: "off",
    value: said[name],
    onChange: (e: { target: { value: string } }) => onSay({ ...said, [name]: e.target.value }),
  });
  const kept = (is: boolean | undefined) => (is ? "kept; empty leaves it as it is" : "kept encrypted");
  if (isSsh(address)) {
    return (
      <>
        <Field {...field("key")} label={`Private key for SSH (${kept(known?.has_key)})`} mono rows={3} spellCheck={false} />
        <Field {...field("known_hosts")} label={`Keys of the server, as ssh-keyscan writes them`} mono rows={2} spellCheck={false} />
      </>
    );
  }
  return (
    <>
      <Field {...field("user")} label={`User there (empty: ${known?.user || "everyshelf"})`} />
      <Field {...field("token")} label={`Token there (${kept(known?.has_token)})`} type="password" />
    </>
  );
}
