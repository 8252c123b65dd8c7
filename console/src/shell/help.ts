/** What each page is for, and what its words mean. */

export interface Help {
  title: string;
  lead: string;
  words: [string, string][];
}

const ARTIFACT: [string, string] = [
  "Artifact",
  "A file on the shelf, or a folder kept whole. It stays the same artifact when it is renamed or moved.",
];
const VERSION: [string, string] = ["Version", "One state of one artifact, counted from 1."];
const COMMIT: [string, string] = ["Commit", "One state of the whole shelf, with a summary of what changed and why."];
const BRANCH: [string, string] = ["Branch", "A line of commits. Work on one does not touch the others until it is merged."];
const TAG: [string, string] = ["Tag", "A name for one commit that stays where it is. Only tags are promoted."];
const DRAFT: [string, string] = ["Draft", "What you have changed and not committed. It is saved as you go, and only you see it."];
const EFFECT: [string, string] = [
  "Effect",
  "breaks: those who use it may fail. alters: what it does or holds differs. cosmetic: only layout, order or form differs.",
];
const FINDING: [string, string] = ["Finding", "One difference that means something: what part, what it was, what it is."];
const SETTLE: [string, string] = ["Settle", "Decide a conflict: take the target, the source, both, or write it yourself."];

const NEWS: Help = {
  title: "News",
  lead: "What others did on this shelf since you said that you had seen all of it. It comes by itself; what you did is in the log.",
  words: [
    ["Follow", "Mark an artifact or a branch: what others do to it is marked here. An artifact stays followed when it is moved."],
    ["Seen", "Mark all as seen when you have read them; Undo makes them new again."],
    BRANCH,
  ],
};

/** The first that fits is shown; of a page of a shelf the part after its key. */
const PAGES: [RegExp, Help][] = [
  [/^news/, NEWS],
  [
    /^$/,
    {
      title: "A shelf",
      lead: "All artifacts at one state, by default the newest of the main branch. Choose another branch, tag or day at the top.",
      words: [
        ARTIFACT,
        VERSION,
        EFFECT,
        DRAFT,
        ["Spine", "One artifact in the strip above: its shape is the kind, its tone how recently it changed."],
      ],
    },
  ],
  [
    /^\/artifact/,
    {
      title: "An artifact",
      lead: "What it is made of, in the form that suits its kind. Edit opens it in your draft; nothing changes for others until you commit.",
      words: [
        ["Outline", "Its parts as a tree: steps, columns, cells, layers, settings."],
        ["Origins", "Who last set each part, when and why, and the forms it had before."],
        ["Copy address", "The address under which data tools read it: pandas, DuckDB and all that know fsspec."],
        ["Uses", "Which artifacts name it or one of its parts, and who is hit if it goes."],
        ["Unfolded", "One file as a folder of readable parts, which can be edited and folded again."],
        VERSION,
      ],
    },
  ],
  [
    /^\/query/,
    {
      title: "Query",
      lead: "Ask the tables of the shelf in SQL, any version of each, and the shelf itself. A query only reads.",
      words: [
        ["'PATH@REF'", "An artifact in quotes, as it is at a branch, tag or day; without @REF as it is at the state chosen above."],
        ["'PATH#TABLE'", "A table of a database, a sheet of a workbook."],
        [
          "commits, artifacts, versions, findings, runs",
          "Lists of the shelf: its commits, what lies on it at the state chosen above, every version, and runs of experiments.",
        ],
        ["Save the query", "Keep it as an artifact of the branch, in your draft until you commit."],
      ],
    },
  ],
  [
    /^\/compare/,
    {
      title: "Comparing",
      lead: "Two states compared by what they mean. A branch is compared from where it parted, so that you see its own changes.",
      words: [FINDING, EFFECT, ["Not judged", "It could not be read, so nothing is said about it; its page says why."]],
    },
  ],
  [
    /^\/(history|commit|version)/,
    {
      title: "Looking back",
      lead: "Commits in the line of a branch, newest first. From a commit its state is restored, or the commit alone is undone.",
      words: [COMMIT, VERSION, EFFECT, ["Undo", "A new commit that puts back what this one changed, and keeps what came later."]],
    },
  ],
  [
    /^\/branches/,
    {
      title: "Branches and tags",
      lead: "The lines of all branches. A branch is compared, proposed or merged from here, and tags are made.",
      words: [BRANCH, TAG, ["Guarded", "A branch to which only keepers and owners commit; others propose."], SETTLE],
    },
  ],
  [
    /^\/proposals/,
    {
      title: "Proposals",
      lead: "A request to merge a branch. The page lists every open point that keeps it from being merged.",
      words: [
        ["Verdict", "Agree or against, with a reason."],
        ["Condition", "A remark that must be met before the proposal can be merged."],
        ["Check", "A test result that a build recorded for a commit."],
        SETTLE,
      ],
    },
  ],
  [
    /^\/settle/,
    {
      title: "Settling a merge",
      lead: "Parts that both sides changed so that only one change can be kept. Decisions are saved as you make them.",
      words: [
        ["Base", "The state both sides come from."],
        ["Target", "The branch that is merged into."],
        ["Source", "The branch that is merged in."],
        SETTLE,
      ],
    },
  ],
  [
    /^\/experiments/,
    {
      title: "Experiments",
      lead: "A question tried on a branch. Each run keeps what it read, its parameters and its metrics, so that runs can be compared.",
      words: [
        ["Run", "One try: the versions it read, its parameters, its metrics, and the commit with what it wrote."],
        ["Adopt", "Propose the branch of the experiment, so that its result is merged."],
        ["Abandon", "End it without merging, with the reason; everything is kept."],
      ],
    },
  ],
  [
    /^\/environments/,
    {
      title: "Environments",
      lead: "Where tags are deployed, in order. A tag is rehearsed first, which changes nothing, and then promoted, whole or not at all.",
      words: [
        TAG,
        ["Rehearse", "See what promoting would change, and which gates are not met."],
        ["Gate", "What must hold before a tag may be promoted: an earlier environment, a review, a check."],
        ["Drift", "What was changed directly in the environment since the last promotion."],
        ["Bindings", "Values that differ from one environment to the next, such as addresses and secrets."],
        ["Roll back", "Put the deployment before this one in place again."],
      ],
    },
  ],
  [
    /^\/pending/,
    {
      title: "Pending changes",
      lead: "What your draft holds. Commit all of it or some; what stays out remains in your draft.",
      words: [DRAFT, COMMIT, ["Save point", "Every state that was saved; each can be restored."]],
    },
  ],
  [
    /^\/git/,
    {
      title: "Git",
      lead: "The shelf is a Git repository as well, and links keep it in step with repositories elsewhere.",
      words: [
        ["Git link", "Joins a branch of the shelf to a branch of a repository elsewhere."],
        ["In step, ahead, behind, diverged", "How far the two sides are from each other."],
        ["Content note", "A short text in Git in place of large content; the bytes stay on the shelf."],
      ],
    },
  ],
  [
    /^\/people/,
    {
      title: "People",
      lead: "Who may do what on this shelf.",
      words: [
        ["Reader", "Sees, compares, downloads and remarks."],
        ["Author", "Also edits, commits to branches that are not guarded, experiments and proposes."],
        ["Keeper", "Also commits to guarded branches, makes tags and promotes."],
        ["Owner", "Also decides about people, guarding and settings."],
      ],
    },
  ],
  [
    /^\/in-place/,
    {
      title: "Data in place",
      lead: "Artifacts whose bytes are not copied: they are read where they lie.",
      words: [
        ["Register", "Lists a folder, a bucket or an address, and commits an artifact for each file."],
        ["Check", "Asks each place whether length, time and ETag are what they were."],
        ["Read and check", "Reads all bytes too, and keeps or compares their SHA-256."],
      ],
    },
  ],
  [
    /^\/(tasks|webhooks|log)/,
    {
      title: "What happens here",
      lead: "Tasks that commits name, programs that are told of what happens, and the log of every act.",
      words: [
        ["Task", "An id of work elsewhere, found in summaries and descriptions of commits."],
        ["Webhook", "An address that is told of commits, promotions and more, signed, until it has heard."],
      ],
    },
  ],
];

const ELSEWHERE: Help = {
  title: "Every Shelf",
  lead: "A shelf keeps files in versions and compares them by what they mean. Choose one, or find words on all of them.",
  words: [["Shelf", "A collection of artifacts with its own people, branches, tags and environments."], ARTIFACT, COMMIT, BRANCH],
};

/** The help of an address of the console. */
export function helpFor(pathname: string): Help {
  const own = /^\/s\/[^/]+(.*)$/.exec(pathname);
  return (own && PAGES.find(([fits]) => fits.test(own[1] ?? ""))?.[1]) || ELSEWHERE;
}
