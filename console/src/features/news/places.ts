/** Where what others did can be seen; pure. */

const PAGES: Record<string, string> = {
  branch: "branches",
  tag: "branches",
  merge: "branches",
  proposal: "proposals",
  check: "proposals",
  experiment: "experiments",
  environment: "environments",
  promotion: "environments",
  binding: "environments",
  member: "people",
  invitation: "people",
  git: "git",
  link: "git",
  webhook: "webhooks",
};

/** The page that shows it: of its commit where it has one. */
export function placeOf(shelf: string, act: string, commit?: string): string {
  if (commit) return `/s/${shelf}/commit/${commit}`;
  const page = PAGES[act.slice(0, act.indexOf("."))];
  return page ? `/s/${shelf}/${page}` : `/s/${shelf}`;
}
