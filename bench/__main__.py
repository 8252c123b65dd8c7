"""``make bench``: print every figure beside its target; ends with a failing status if one is missed.

``python -m bench [T1 T7 T21 mem crashes …]`` measures only some.
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator

from tests.support.service import Service

from bench import figures
from bench.as_run import as_run
from bench.backups import backups
from bench.cluster import cluster
from bench.connections import connections
from bench.console import console
from bench.crashes import Campaign
from bench.crowd import crowd, people
from bench.cut_short import campaigns
from bench.desk import desk
from bench.exchange import exchange
from bench.flips import flips
from bench.full_disk import full_disk
from bench.fuzz import fuzz, fuzz_installation
from bench.histories import histories
from bench.hurt import hurt
from bench.listings import listings
from bench.looking_back import looking_back
from bench.meaning import meaning
from bench.measure import Figure
from bench.merging import merging
from bench.models import models
from bench.moving import moving
from bench.outages import outages
from bench.pairs import pairs
from bench.promotion import promotion
from bench.releases import releases
from bench.rows import rows as paged_rows
from bench.seams import seams
from bench.sharing import sharing
from bench.soak import soak
from bench.storage import storage
from bench.stored_as_run import stored_as_run
from bench.tables import tables
from bench.tidying import tidying
from bench.versions import versions

KILLS = 200
CUT_SHORT = 300


def crashes() -> Iterator[Figure]:
    """200 kills in campaigns of 25, each on a fresh service; what is found wrong is printed at once."""
    problems: list[str] = []
    acknowledged = promoted = 0
    for seed in range(KILLS // 25):
        done = Campaign(seed=seed, kills=25).run()
        problems += done.problems
        acknowledged, promoted = acknowledged + len(done.acknowledged), promoted + done.promoted
        print(
            f"     … {25 * (seed + 1)} kills, {acknowledged} commits and {promoted} promotions acknowledged, {len(problems)} problems",
            flush=True,
        )
        for problem in done.problems[:20]:
            print("       !", problem, flush=True)
    detail = f"{acknowledged} commits and {promoted} promotions acknowledged"
    yield Figure("D25", f"problems after {KILLS} kills with -9 from outside", len(problems), "0", not problems, detail)


def cut_short() -> Iterator[Figure]:
    """300 promotions, each of which something happens to, over all destinations."""
    problems: list[str] = []
    happened: Counter[str] = Counter()
    ended: Counter[str] = Counter()
    for done in campaigns(CUT_SHORT, 30):
        problems, happened, ended = problems + done.problems, happened + done.happened, ended + done.ended
        print(f"     … {sum(happened.values())} promotions, {dict(ended)}, {len(problems)} problems", flush=True)
        for problem in done.problems[:20]:
            print("       !", problem, flush=True)
    detail = f"{ended['in place']} in place, {ended['undone']} undone; {', '.join(f'{n} {w}' for w, n in sorted(happened.items()))}"
    yield Figure("D25", f"problems after {CUT_SHORT} promotions cut short", len(problems), "0", not problems, detail)


def main() -> int:
    """Measure what was asked for."""
    wanted = set(sys.argv[1:])
    missed = 0
    service: Service | None = None
    for name, measure in (
        ("T1", figures.ingest),
        ("T2", figures.ingest_of_noise),
        ("T7", figures.commits_and_branches),
        ("meaning", meaning),
        ("merging", merging),
        ("tables", tables),
        ("run", as_run),
        ("storage", storage),
        ("stored-as-run", stored_as_run),
        ("listings", listings),
        ("looking-back", looking_back),
        ("console", console),
        ("rows", paged_rows),
        ("exchange", exchange),
        ("histories", histories),
        ("pairs", pairs),
        ("releases", releases),
        ("desk", desk),
        ("models", models),
        ("promotion", promotion),
        ("T21", figures.command_line),
        ("mem", figures.upload_memory),
        ("crashes", crashes),
        ("short", cut_short),
        ("backups", backups),
        ("versions", versions),
        ("tidying", tidying),
        ("moving", moving),
        ("outages", outages),
        ("seams", seams),
        ("hurt", hurt),
        ("flips", flips),
        ("disk", full_disk),
        ("fuzz", fuzz),
        ("fuzz-installation", fuzz_installation),
        ("connections", connections),
        ("crowd", crowd),
        ("people", people),
        ("soak", soak),
        ("sharing", sharing),
        ("cluster", cluster),
    ):
        if wanted and name not in wanted:
            continue
        if name in ("T7", "T21", "mem"):
            service = Service()
            rows = measure(service)  # type: ignore[call-arg]
        else:
            rows = measure()  # type: ignore[call-arg]
        for figure in rows:
            print(figure.line(), flush=True)
            missed += not figure.holds
        if service is not None:
            service.stop()
            service = None
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
