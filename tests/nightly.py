"""``python -m tests.nightly``: everything, with all examples of the laws, then each cut of a safety net.

Begins and ends with a line that says when all of it was last green, and on which commit.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

_ROOT = Path(__file__).parents[1]
_GREEN = _ROOT / ".nightly.json"  # of this checkout; not committed


def _commit() -> str:
    done = subprocess.run(
        ["git", "describe", "--always", "--dirty"], cwd=_ROOT, capture_output=True, text=True, check=False
    )
    return done.stdout.strip() or "unknown"


def _last_green() -> str:
    if not _GREEN.exists():
        return "never green in this checkout"
    last = json.loads(_GREEN.read_text())
    return f"last green {last['ended']} on {last['commit']}"


def main() -> int:
    """Run both parts, also if the first fails; the exit code is 0 if both are green."""
    print(_last_green(), flush=True)
    commit = _commit()
    environment = {**os.environ, "EVERYSHELF_LAWS": "1"}
    parts = (["tests", "--nightly"], ["tests.mutations"])
    codes = [
        subprocess.run([sys.executable, "-m", *part], cwd=_ROOT, env=environment, check=False).returncode
        for part in parts
    ]
    if not any(codes):
        _GREEN.write_text(json.dumps({"ended": f"{datetime.now(UTC):%Y-%m-%d %H:%M} UTC", "commit": commit}))
    print(_last_green(), flush=True)
    return int(any(codes))


if __name__ == "__main__":
    sys.exit(main())
