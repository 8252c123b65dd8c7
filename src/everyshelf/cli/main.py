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
    "token": ("people", "List, make and revoke tokens."),
    "shelf": ("shelves", "List, make and change shelves."),
    "member": ("members", "Who may do what on a shelf; inviting people."),
    "log": ("members", "Who did what."),
    "admin": ("admin", "Run an installation: accounts, passwords, sessions."),
    "take": ("desk", "Take a shelf onto a desk, or bring its newest state here."),
    "catch-up": ("desk", "Bring newer commits here, merged with what you edited."),
    "pending": ("desk", "What differs on this desk from where it came."),
    "commit": ("desk", "Commit pending artifacts."),
    "draft": ("drafts", "Your uncommitted work on the server."),
    "discard": ("desk", "Bring pending artifacts back to what they came from."),
    "restore": ("desk", "Bring an artifact, or the shelf, back to an older state."),
    "compare": ("compare", "What changed between two states, by what it means."),
    "history": ("history", "Commits of a branch, or versions of an artifact."),
    "browse": ("history", "What lies on the shelf at any moment."),
    "branch": ("branches", "List, make, guard and drop branches."),
    "merge": ("branches", "Merge a branch into another."),
    "settle": ("merging", "Settle what a merge could not decide."),
    "proposal": ("proposals", "Ask that a branch be merged; remarks and verdicts."),
    "check": ("proposals", "Test results recorded against a commit."),
    "experiment": ("experiments", "Try something on a branch; compare its runs."),
    "run": ("experiments", "Run a command as a run of an experiment."),
    "copy": ("history", "Copy an artifact from another shelf, with its versions."),
    "tag": ("branches", "List and make tags."),
    "env": ("environments", "List, make and look at environments."),
    "rehearse": ("promotion", "What a promotion would do; nothing is touched."),
    "promote": ("promotion", "Put a tag into an environment."),
    "rollback": ("promotion", "Put an earlier deployment in place again."),
    "drift": ("promotion", "What was changed in an environment; bring it back."),
    "parcel": ("parcels", "Pack artifacts into one portable file; look into it, check it, unpack it."),
    "outline": ("files", "What a file is made of."),
    "compare-files": ("files", "What changed between two files, by what it means."),
    "merge-files": ("merging", "Put two versions of a file together, by what they mean."),
    "unfold": ("unfolding", "Lay a file's parts into a folder, one readable file each."),
    "fold": ("unfolding", "Make the parts in a folder one file again."),
    "verify": ("history", "Re-read a whole shelf and name what does not match."),
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
    """Version artifacts, compare them by what they mean, promote tagged versions between environments."""


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
