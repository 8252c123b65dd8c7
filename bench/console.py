"""The console on a large shelf: 20,000 artifacts in 200 folders, in headless Chromium.

Usable is when the first row, or what the page is for, can be read; from there also what was sent, how many requests it
took, and how many nodes the page has.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from statistics import median

from tests.support.browser import Browser
from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, ShelfClient

_FOLDERS, _EACH = 200, 100
_CHANGED = 500
_STEPS = 3000
_SENT = """
const all = performance.getEntriesByType("resource").concat(performance.getEntriesByType("navigation"));
const sum = (fits) =>
  all.filter((one) => fits(new URL(one.name).pathname)).reduce((n, one) => n + (one.transferSize || 0), 0);
return [sum((path) => /[.](js|css)$/.test(path) || path.startsWith("/s/")), sum((path) => path.startsWith("/api/")),
  all.length, document.querySelectorAll("*").length];
"""


@dataclass(frozen=True)
class _Seen:
    """Seconds until it was usable, bytes of scripts and styles and of data as sent, requests, nodes."""

    seconds: float
    code: int
    data: int
    requests: int
    nodes: int


def console() -> Iterator[Figure]:
    """Time to usable, bytes, requests and nodes of the pages of a large shelf."""
    service = Service()
    browser = Browser()
    try:
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Large").key)
            _fill(shelf)
            _wait_for_jobs(service)
            browser.sign_in(service.address, "owner", PASSWORD)
            base = f"{service.address}/s/{shelf.key}"
            yield from _first_load(browser, base)
            yield from _pages(browser, base)
            yield _letters(browser, base)
    finally:
        browser.close()
        service.stop()


def _fill(shelf: ShelfClient) -> None:
    kinds = {"json": b'{"part": %d}', "csv": b"id,n\n1,%d\n", "md": b"# Part %d\n", "py": b"part = %d\n"}
    contents = [(end, shelf.upload(text % n).id) for n in range(40) for end, text in kinds.items()]
    changes = []
    for number in range(_FOLDERS * _EACH):
        end, content = contents[number % len(contents)]
        changes.append(ChangeRequest(f"area {number % _FOLDERS}/part {number:05}.{end}", content))
    steps = [{"id": f"s{n}", "command": f"run {n}", "after": [f"s{n // 2}"] if n else []} for n in range(_STEPS)]
    flow = shelf.upload(json.dumps({"pipeline": "x", "steps": steps}).encode()).id
    shelf.commit("main", None, [*changes, ChangeRequest("large.json", flow)], "All of it")
    shelf.make_tag("first")
    other = shelf.upload(b"# Changed\n\nby the bench\n").id
    some = [change.path for change in changes if change.path.endswith(".md")][:_CHANGED]
    shelf.commit("main", shelf.branch("main").head, [ChangeRequest(path, other) for path in some], "Five hundred")


def _wait_for_jobs(service: Service) -> None:
    """Wait until all that follows from the commits is done, so that the machine is quiet."""
    left = 1
    while left:
        time.sleep(1.0)
        with sqlite3.connect(service.data / "records.sqlite") as records:
            asked = "SELECT COUNT(*) FROM jobs_job WHERE state IN ('waiting', 'running')"
            left = records.execute(asked).fetchone()[0]


def _open(browser: Browser, address: str, usable: Callable[[], bool]) -> _Seen:
    """Open a page, and wait until it is usable."""
    browser.driver.execute_cdp_cmd("Network.clearBrowserCache", {})
    begun = time.perf_counter()
    browser.driver.get(address)
    browser.wait_for(usable, 300)
    seconds = time.perf_counter() - begun
    return _Seen(seconds, *(int(number) for number in browser.driver.execute_script(_SENT)))


def _has(browser: Browser, selector: str) -> Callable[[], bool]:
    return lambda: bool(browser.driver.execute_script("return document.querySelector(arguments[0])", selector))


def _says(browser: Browser, words: str) -> Callable[[], bool]:
    return lambda: bool(browser.driver.execute_script("return document.body.innerText.includes(arguments[0])", words))


def _first_load(browser: Browser, base: str) -> Iterator[Figure]:
    cold = _open(browser, base, _has(browser, "a.row"))
    yield Figure("C1", "shelf usable, first time after its commit, seconds", round(cold.seconds, 2), "", True, "")
    for name, what, sent, most in (
        ("C2", "first load: scripts and styles, KB sent", cold.code, 250),
        ("C3", "first load: data, KB sent", cold.data, 200),
    ):
        yield Figure(name, what, round(sent / 1024), f"≤ {most}", sent <= most * 1024, f"{cold.requests} requests")


def _pages(browser: Browser, base: str) -> Iterator[Figure]:
    pages: list[tuple[str, str, str, Callable[[], bool], float]] = [
        ("C4", "shelf usable", "", _has(browser, "a.row"), 1.0),
        ("C5", "artifact usable", "/artifact?path=area%207/part%2000007.py", _says(browser, "part 00007.py"), 0.8),
        ("C6", "comparison with 500 changed usable", "/compare?from=tag:first", _says(browser, "500 artifacts"), 1.5),
        (
            "C7",
            "workflow of 3,000 steps usable",
            "/artifact?path=large.json",
            _has(browser, ".drawing .node"),
            2.5,
        ),
    ]
    for name, what, address, usable, most in pages:
        seen = [_open(browser, f"{base}{address}", usable) for _ in range(5)]
        seconds = median(one.seconds for one in seen)
        last = seen[-1]
        told = f"{last.data / 1024:.0f} KB of data, {last.requests} requests, {last.nodes} nodes"
        yield Figure(name, f"{what}, seconds", round(seconds, 2), f"≤ {most}", seconds <= most, told)


_TYPED = """
const [field, text, wanted, done] = arguments;
const begun = performance.now();
const seen = () => {
  if (!document.querySelector(".foot span").textContent.startsWith(wanted)) return;
  watch.disconnect();
  requestAnimationFrame(() => done((performance.now() - begun) / 1000));
};
const watch = new MutationObserver(seen);
watch.observe(document.body, { subtree: true, childList: true, characterData: true });
Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(field, text);
field.dispatchEvent(new Event("input", { bubbles: true }));
"""


def _letters(browser: Browser, base: str) -> Figure:
    """Each letter typed into the filter until the count below the list is that of the letters so far, drawn."""
    _open(browser, base, _has(browser, "a.row"))
    browser.driver.set_script_timeout(60)
    field = browser.field("Narrow the list")
    took = []
    for place in range(1, 6):
        text = "00123"[:place]
        count = sum(text in f"{number:05}" or text in f"area {number % _FOLDERS}" for number in range(20_000))
        told = f"{count:,}".replace(",", "\u202f") + " of "
        took.append(float(browser.driver.execute_async_script(_TYPED, field, text, told)))
        time.sleep(0.3)
    seconds = median(took)
    return Figure(
        "C8", "filter, seconds a letter", round(seconds, 3), "≤ 0.1", seconds <= 0.1, f"worst {max(took):.3f}"
    )
