"""``python -m everyshelf.standin --file FILE --port PORT --token PERSON=TOKEN …``: run the stand-in on loopback."""

from __future__ import annotations

import argparse
import logging
from pathlib import Path

from werkzeug.serving import make_server

from everyshelf.standin.app import make_app
from everyshelf.standin.builds import add_builds
from everyshelf.standin.repositories import add_repositories


def main() -> None:
    """Serve until stopped."""
    parser = argparse.ArgumentParser("everyshelf.standin", description=__doc__)
    parser.add_argument("--file", type=Path, required=True, help="SQLite file that holds its state")
    parser.add_argument("--port", type=int, default=0, help="port on 127.0.0.1; 0 takes a free one")
    parser.add_argument("--token", action="append", default=[], metavar="PERSON=TOKEN")
    parser.add_argument("--git", type=Path, help="folder of bare repositories to serve under /git/")
    parser.add_argument("--builds", type=Path, help="file that says what to build for each commit heard of at /builds")
    given = parser.parse_args()
    tokens = {token: person for person, _, token in (text.partition("=") for text in given.token)}
    given.file.parent.mkdir(parents=True, exist_ok=True)
    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    app = make_app(given.file, tokens)
    if given.git is not None:
        add_repositories(app, given.git)
    if given.builds is not None:
        add_builds(app, given.builds)
    server = make_server("127.0.0.1", given.port, app, threaded=True)
    print(f"http://127.0.0.1:{server.server_port}", flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main()
