/** How a link is let in at its repository: user and token, or a key for SSH. All of it is kept encrypted. */
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
    className: "inp",
    autoComplete: "off",
    value: said[name],
    onChange: (e: { target: { value: string } }) => onSay({ ...said, [name]: e.target.value }),
  });
  const kept = (is: boolean | undefined) => (is ? "kept; empty leaves it as it is" : "kept encrypted");
  if (isSsh(address)) {
    return (
      <>
        <label htmlFor={`access-key-${id}`}>Private key for SSH ({kept(known?.has_key)})</label>
        <textarea {...field("key")} className="inp mono" rows={3} spellCheck={false} />
        <label htmlFor={`access-known_hosts-${id}`}>Keys of the server, as ssh-keyscan writes them</label>
        <textarea {...field("known_hosts")} className="inp mono" rows={2} spellCheck={false} />
      </>
    );
  }
  return (
    <>
      <label htmlFor={`access-user-${id}`}>User there (empty: {known?.user || "everyshelf"})</label>
      <input {...field("user")} />
      <label htmlFor={`access-token-${id}`}>Token there ({kept(known?.has_token)})</label>
      <input {...field("token")} type="password" />
    </>
  );
}
