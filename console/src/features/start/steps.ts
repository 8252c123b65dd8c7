/** What a person can do first on a shelf, by role; pure. */

export interface Step {
  name: string;
  says: string;
  /** The end of the address on the shelf, and the words of its link. */
  to: string;
  link: string;
}

export type Role = "reader" | "author" | "keeper" | "owner";

const LOOK: Step = {
  name: "Look around",
  says: "The shelf lists its artifacts at one state, by default the newest of the main branch. Choose a tag or a day at the top to see an earlier one.",
  to: "",
  link: "Artifacts",
};
const COMPARE: Step = {
  name: "See what changed",
  says: "Choose two states. What breaks users comes first, then what alters behaviour; each difference is said in words, part by part.",
  to: "/compare",
  link: "Compare two states",
};
const REMARK: Step = {
  name: "Say what you think",
  says: "Open a proposal and remark on it, also on one part of one file. A remark can be a condition: the proposal waits until it is met.",
  to: "/proposals",
  link: "Proposals",
};
const FOLLOW: Step = {
  name: "Follow what you depend on",
  says: "Follow an artifact on its page: what others do to it is marked in News, which comes by itself.",
  to: "/news",
  link: "News",
};
const BRING: Step = {
  name: "Bring in files",
  says: "Drop files or a folder on the page. They wait in your draft, saved on the server, until you commit them; only you see them until then.",
  to: "",
  link: "Add files",
};
const COMMIT: Step = {
  name: "Commit",
  says: "Say in one line what changed. All of it goes in or none; what you leave out stays pending.",
  to: "/pending",
  link: "Pending",
};
const TRY: Step = {
  name: "Try something without touching main",
  says: "Make a branch, change what you like, compare it with where it parted, and propose to merge it. Conflicts are settled part by part.",
  to: "/branches",
  link: "Branches and tags",
};
const RUNS: Step = {
  name: "Ask a question",
  says: "An experiment is a branch with a question: each run keeps its parameters and metrics, and the best one can be adopted.",
  to: "/experiments",
  link: "Experiments",
};
const TAG: Step = {
  name: "Give a state a name",
  says: "A tag is a name that never moves. Only tags are promoted.",
  to: "/branches",
  link: "Make a tag",
};
const PROMOTE: Step = {
  name: "Promote it",
  says: "A rehearsal shows what would change and which gates are not met, and touches nothing. Then promote; rolling back takes one click and a reason.",
  to: "/environments",
  link: "Environments",
};
const JUDGE: Step = {
  name: "Give verdicts",
  says: "Proposals that wait for you are listed on the first page. Agree, or say what is against it.",
  to: "/proposals",
  link: "Proposals",
};
const PEOPLE: Step = {
  name: "Invite people",
  says: "Each has a role: readers look, authors commit, keepers merge and promote, owners decide who may do what.",
  to: "/people",
  link: "People",
};
const GUARD: Step = {
  name: "Guard the main branch",
  says: "Then it changes by proposals only, or by keepers.",
  to: "/branches",
  link: "Branches and tags",
};
const ROUTE: Step = {
  name: "Say where artifacts go",
  says: "Make an environment for each place: a folder, a database, a platform, a Git branch. Their order is the route; gates hold what is not ready.",
  to: "/environments",
  link: "Environments",
};
const GIT: Step = {
  name: "Work with Git",
  says: "Any Git client clones and pushes to the shelf; a link keeps it in step with a repository elsewhere.",
  to: "/git",
  link: "Git",
};

const STEPS: Record<Role, Step[]> = {
  reader: [LOOK, COMPARE, REMARK, FOLLOW],
  author: [BRING, COMMIT, COMPARE, TRY, RUNS, FOLLOW],
  keeper: [LOOK, JUDGE, TAG, PROMOTE, TRY, FOLLOW],
  owner: [BRING, COMMIT, PEOPLE, GUARD, ROUTE, GIT],
};

export function stepsOf(role: string): Step[] {
  return STEPS[role as Role] ?? STEPS.reader;
}

/** "an author", "a keeper". */
export function withArticle(role: string): string {
  return `${/^[aeiou]/.test(role) ? "an" : "a"} ${role}`;
}
