"""``serve`` and ``demo``: the two commands that reach the service itself, imported late."""

from __future__ import annotations

import os
from pathlib import Path

import click

from everyshelf.cli import terminal


@click.command("serve")
@click.option("--data", type=click.Path(file_okay=False, path_type=Path), help="Data folder: artifacts and records.")
@click.option("--host", help="Address to listen on; default 127.0.0.1.")
@click.option("--port", type=click.IntRange(1, 65535), help="Port to listen on; default 7463.")
def serve(data: Path | None, host: str | None, port: int | None) -> None:
    """Start the service; Ctrl+C stops it."""
    for name, value in (("DATA", data), ("HOST", host), ("PORT", port)):
        if value is not None:
            os.environ[f"EVERYSHELF_{name}"] = str(value)
    from everyshelf.service.base.config import get_config
    from everyshelf.service.base.data_folder import open_data_folder
    from everyshelf.service.serve import damage, prepare
    from everyshelf.service.serve import serve as run

    config = get_config()
    lock = open_data_folder(config)
    first = prepare()
    for place in damage():
        click.echo(f"‖ {place}", err=True)

    def ready() -> None:
        terminal.say(
            terminal.bold(f"Every Shelf is at http://{config.host}:{config.port}") + f", data in {config.data}."
        )
        if first is not None:
            terminal.say(f"Sign in as {first[0]} with {first[1]}")
            terminal.say(terminal.dim("This password is shown once."))

    run(ready)
    lock.close()


@click.command("demo")
@click.option(
    "--data",
    type=click.Path(file_okay=False, path_type=Path),
    default=Path(".demo"),
    show_default=True,
    help="Folder of the demo.",
)
@click.option("--port", type=click.IntRange(1, 65535), default=7463, show_default=True, help="Port to listen on.")
@click.option("--no-serve", is_flag=True, help="Build and show the demo, then end.")
@click.option("--fresh", is_flag=True, help="Replace an existing demo folder.")
def demo(data: Path, port: int, no_serve: bool, fresh: bool) -> None:
    """Build the Skerry Line demo, show its main path in the terminal, and serve it."""
    from everyshelf.cli.demo import run_demo

    run_demo(data.absolute(), port, serve=not no_serve, fresh=fresh)
