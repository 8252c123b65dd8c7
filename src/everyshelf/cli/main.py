"""``everyshelf``: commands are imported when they run, so that the start stays quick."""

from __future__ import annotations

import importlib
import sys
from typing import Any

import click

# name: (module below cli.commands, what it is for); the texts stand here so that --help imports nothing.
COMMANDS: dict[str, tuple[str, str]] = {
    "serve": ("service", "Start the service on this machine."),
    "demo": ("service", "Build the Skerry Line demo, show its main path, and serve it."),
    "connect": ("people", "Sign in to a service and remember its address."),
    "token": ("people", "List, make and revoke access tokens."),
    "shelf": ("shelves", "List, make and change shelves."),
    "member": ("members", "Manage roles on a shelf and invite people."),
    "log": ("members", "Show who did what on a shelf."),
    "admin": ("admin", "Run an installation: accounts, passwords, sessions."),
    "backup": ("backups", "Make, list, check and restore backups of an installation."),
    "storage": ("storage", "Show what an installation holds, and free room that nothing needs."),
    "news": ("news", "Show what others did on your shelves since you last looked."),
    "view": ("saved_views", "List, save and remove saved views of a shelf."),
    "follow": ("news", "Follow artifacts and branches: news about them are marked."),
    "take": ("desk", "Copy a shelf into a local folder (a desk), or update the desk you are in."),
    "catch-up": ("desk", "Update this desk with newer commits and merge them with your edits."),
    "pending": ("desk", "Show what has changed on this desk since its last commit or update."),
    "commit": ("desk", "Commit pending artifacts."),
    "draft": ("drafts", "Manage your draft: uncommitted changes kept on the server."),
    "discard": ("desk", "Undo pending changes on this desk (a copy of your edits is kept)."),
    "restore": ("desk", "Restore an artifact, or the whole shelf, to an earlier state."),
    "rows": ("rows", "Show rows of a table, sorted and filtered."),
    "query": ("queries", "Run SQL over any versions of tables, and over the shelf itself."),
    "undo": ("undo", "Undo one commit and keep what came later."),
    "compare": ("compare", "Compare two states by meaning (steps, columns, rows), not by lines."),
    "history": ("history", "List the commits of a branch, or the versions of an artifact."),
    "origins": ("origins", "Show who last set each part or line of an artifact, when, and why."),
    "uses": ("uses", "Show who uses an artifact or a part of it, and who is hit if it goes."),
    "lineage": ("lineage", "Show what a version was made from, and whether it can be made again."),
    "find": ("find", "Find artifacts by the words in them, on all shelves you may see."),
    "in-place": ("in_place", "Register data where it lies, without copying it."),
    "browse": ("history", "List the shelf's contents at a branch, tag, commit or date; show or download a file."),
    "branch": ("branches", "List, make, guard and delete branches."),
    "merge": ("branches", "Merge a branch into another."),
    "settle": ("merging", "Settle the conflicts of a merge."),
    "proposal": ("proposals", "Propose merging a branch; comment and give a verdict."),
    "check": ("proposals", "List test results recorded for a commit, or record one."),
    "experiment": ("experiments", "Try out a question on a branch and compare the runs."),
    "task": ("tasks", "Show what was done for a task, and where that has come to."),
    "run": ("runs", "Run a command as an experiment run, on this desk or isolated from it."),
    "copy": ("history", "Copy an artifact from another shelf, with its version history."),
    "tag": ("branches", "List and make tags."),
    "env": ("environments", "List, make and configure environments."),
    "rehearse": ("promotion", "Show what a promotion would do, without changing anything."),
    "promote": ("promotion", "Promote a tag to an environment."),
    "rollback": ("promotion", "Return an environment to an earlier deployment."),
    "drift": ("promotion", "Show changes made directly in an environment, or capture them in your draft."),
    "git-link": ("git_links", "Join a shelf to Git repositories: send, fetch, keep in step."),
    "webhook": ("webhooks", "Tell programs elsewhere what happens on a shelf."),
    "git-tools": ("git_tools", "Make git diff, log, merge and rebase compare and merge by meaning."),
    "git-filter": ("git_tools", "Give Git real bytes for content notes, and notes for large files."),
    "parcel": ("parcels", "Pack artifacts into one portable file; list, verify or unpack it."),
    "outline": ("files", "Show the structure of a file (steps, columns, cells …)."),
    "compare-files": ("files", "Compare two files by meaning."),
    "merge-files": ("merging", "Merge two versions of a file by meaning."),
    "unfold": ("unfolding", "Split a file into a folder of readable parts."),
    "fold": ("unfolding", "Rebuild the original file from a folder of parts."),
    "verify": ("history", "Re-read everything on a shelf and report any damage."),
}


class _Commands(click.Group):
    def list_commands(self, context: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        module = importlib.import_module(f"everyshelf.cli.commands.{COMMANDS[name][0]}")
        command: click.Command = getattr(module, name.replace("-", "_"))
        return command

    def format_commands(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, text) for name, (_, text) in COMMANDS.items()])

    def resolve_command(self, context: click.Context, args: list[str]) -> Any:
        try:
            return super().resolve_command(context, args)
        except click.UsageError as error:
            raise click.UsageError(f"{error.format_message()} See everyshelf --help.", context) from error


@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="every-shelf", message="Every Shelf %(version)s")
def cli() -> None:
    """Version artifacts, compare them by meaning, and promote tagged versions between environments."""


def run() -> None:
    """The installed command: one place turns errors into words and exit codes."""
    from everyshelf.cli.errors import report

    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="backslashreplace")
    try:
        code = cli.main(prog_name="everyshelf", standalone_mode=False)
    except Exception as error:
        sys.exit(report(error, sys.argv))
    except KeyboardInterrupt:
        click.echo("Stopped.", err=True)
        sys.exit(1)
    sys.exit(code if isinstance(code, int) else 0)


if __name__ == "__main__":
    run()
