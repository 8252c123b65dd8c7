"""The client of a service; see ``shelf`` for that of one shelf."""

from __future__ import annotations

from collections.abc import Iterator
from types import TracebackType
from typing import Any
from urllib.parse import quote

from everyshelf.client.jobs import Progress, wait_for
from everyshelf.client.models import (
    Account,
    Backups,
    Job,
    Joined,
    Location,
    LogEntry,
    MadeToken,
    SeenInvitation,
    Shelf,
    Storage,
    StoreName,
    StoreState,
    Token,
    UnusedContent,
    UnusedPage,
)
from everyshelf.client.people import read_log
from everyshelf.client.shelf import ShelfClient
from everyshelf.client.transport import Transport, Working, nothing_shown
from everyshelf.core.answers.find import FindAnswer
from everyshelf.core.answers.news import News


class Client:
    """A connection to a service; usable as a context manager."""

    def __init__(
        self,
        address: str,
        token: str | None = None,
        *,
        timeout_seconds: float = 60.0,
        working: Working = nothing_shown,
    ) -> None:
        """``working`` is told how far a job is that an answer waits for, such as a merge of many artifacts."""
        self._transport = Transport(address, token, timeout_seconds=timeout_seconds, working=working)
        self.address = self._transport.address

    def __enter__(self) -> Client:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Give up its connections."""
        self._transport.close()

    def sign_in_for_token(
        self, name: str, password: str, token_name: str, scopes: list[str], days: int | None = 90
    ) -> MadeToken:
        """A token for a name and password; one of the same name is replaced."""
        body = {"name": name, "password": password, "token_name": token_name, "scopes": scopes, "days": days}
        return self._transport.send("POST", "session/token", body, MadeToken)

    def person(self) -> str | None:
        """The name of whose token this is."""
        found = self._transport.get("session", dict[str, Any])["person"]
        return found["name"] if found else None

    def add_person(self, name: str, full_name: str, password: str) -> None:
        """Add someone who can sign in."""
        self._transport.send("POST", "people", {"name": name, "full_name": full_name, "password": password})

    def find(
        self,
        words: str = "",
        *,
        shelves: list[str] | None = None,
        kinds: list[str] | None = None,
        history: bool = False,
        limit: int | None = None,
        **filters: Any,
    ) -> FindAnswer:
        """Find artifacts that hold all words, on all shelves one may see; all of them without a ``limit``.

        ``filters``: ``by``, ``since``, ``until``, ``label``, ``task``, ``effect``, ``larger`` (bytes), ``order`` (best,
        newest, name). ``history``: look through earlier versions too.
        """
        query = {"words": words, "shelf": shelves, "kind": kinds, "history": history or None, **filters}
        whole: FindAnswer | None = None
        while whole is None or (whole.next is not None and (limit is None or len(whole.items) < limit)):
            wanted = 200 if limit is None else min(limit - (len(whole.items) if whole else 0), 200)
            cursor = whole.next if whole is not None else None
            page = self._transport.get("find", FindAnswer, **query, limit=wanted, cursor=cursor)
            if whole is not None:
                page.items = [*whole.items, *page.items]
            whole = page
        return whole

    def tokens(self) -> list[Token]:
        """One's own tokens."""
        return self._transport.get("tokens", list[Token])

    def make_token(self, name: str, scopes: list[str], days: int | None = 90) -> MadeToken:
        """A new token; its value is shown this once."""
        return self._transport.send("POST", "tokens", {"name": name, "scopes": scopes, "days": days}, MadeToken)

    def change_password(self, old: str, new: str) -> None:
        """Change one's own password; all other sessions end."""
        self._transport.send("PUT", "session/password", {"old": old, "new": new})

    def accounts(self) -> list[Account]:
        """Everybody who has an account; for those who run the installation."""
        return self._transport.get("people", list[Account])

    def locations(self) -> list[Location]:
        """The locations that shelves use; for those who run the installation."""
        return self._transport.get("locations", list[Location])

    def share_location(self, address: str, shelf: str) -> list[Location]:
        """Let one more shelf use a location that another one has, for links and data in place."""
        return self._transport.send("POST", "locations/shares", {"address": address, "shelf": shelf}, list[Location])

    def unshare_location(self, address: str, shelf: str) -> list[Location]:
        """Stop sharing a location with a shelf."""
        asked = f"locations/shares?address={quote(address, safe='')}&shelf={quote(shelf, safe='')}"
        return self._transport.send("DELETE", asked, None, list[Location])

    def backups(self) -> Backups:
        """The backups of the installation and their schedule; for those who run it."""
        return self._transport.get("backups", Backups)

    def make_backup(self) -> Job:
        """Begin a backup where the installation keeps them; see ``wait``."""
        return self._transport.send("POST", "backups", None, Job)

    def storage(self) -> Storage:
        """What the store of the installation holds; for those who run it."""
        return self._transport.get("storage", Storage)

    def unused_contents(self) -> Iterator[UnusedContent]:
        """The contents that were sent and never used; for those who run the installation."""
        after: int | None = 0
        while after is not None:
            page = self._transport.get("storage/unused", UnusedPage, after=after, limit=1000)
            yield from page.items
            after = page.next

    def tidy_storage(self) -> Job:
        """Begin to keep new versions as what they change, and to free what is not needed; see ``wait``."""
        return self._transport.send("POST", "storage/tidy", None, Job)

    def move_storage(self, to: str, *, store: str = "main", endpoint: str = "", take_over: bool = False) -> Job:
        """Let the versions of a store live at ``to`` (``folder`` for the data folder, the path of another folder, or
        ``s3://BUCKET/PREFIX``) from now on, and begin to move them; see ``wait``. ``endpoint``: address of the
        S3-compatible service that has the bucket. ``take_over``: use the segments of another installation that lie
        there."""
        asked = {"to": to, "endpoint": endpoint, "take_over": take_over, "store": store}
        return self._transport.send("POST", "storage/move", asked, Job)

    def stores(self) -> list[str]:
        """The names of the stores where bytes of shelves can live, ``main`` first."""
        return [one.name for one in self._transport.get("storage/stores", list[StoreName])]

    def make_store(self, name: str, to: str, *, endpoint: str = "", take_over: bool = False) -> StoreState:
        """Make a store whose versions live at ``to`` (see ``move_storage``), which is tried first."""
        asked = {"name": name, "to": to, "endpoint": endpoint, "take_over": take_over}
        return self._transport.send("POST", "storage/stores", asked, StoreState)

    def remove_store(self, name: str) -> None:
        """Remove a store in which nothing lives any more."""
        self._transport.send("DELETE", f"storage/stores/{quote(name, safe='')}")

    def wait(self, job: Job, on_progress: Progress | None = None) -> Job:
        """Wait until a job ended; raises ``ProblemError`` if it failed or was cancelled."""
        return wait_for(self._transport, job, on_progress)

    def set_active(self, name: str, active: bool) -> Account:
        """Say whether somebody may sign in; who may not is out at once."""
        return self._transport.send("PATCH", f"people/{quote(name, safe='')}", {"active": active}, Account)

    def reset_password(self, name: str, password: str = "") -> str:
        """Give somebody a new password, a random one if none is given; gives it back."""
        path = f"people/{quote(name, safe='')}/password"
        return str(self._transport.send("POST", path, {"password": password}, dict[str, str])["password"])

    def end_sessions(self, name: str) -> int:
        """End the sessions of a person; gives how many."""
        path = f"people/{quote(name, safe='')}/sessions"
        return int(self._transport.send("DELETE", path, None, dict[str, int])["ended"])

    def revoke_token(self, name: str) -> None:
        """Make a token worthless at once."""
        self._transport.send("DELETE", f"tokens/{quote(name, safe='')}")

    def shelves(self) -> list[Shelf]:
        """All shelves one may see."""
        return self._transport.get("shelves", list[Shelf])

    def make_shelf(
        self,
        name: str,
        *,
        description: str = "",
        key: str | None = None,
        open_to_all: bool = False,
        store: str = "main",
    ) -> Shelf:
        """A new shelf, usable at once. ``store``: where its bytes are to live."""
        body = {"name": name, "description": description, "key": key, "open_to_all": open_to_all, "store": store}
        return self._transport.send("POST", "shelves", body, Shelf)

    def shelf(self, key: str) -> ShelfClient:
        """Work with one shelf; nothing is asked of the service yet."""
        return ShelfClient(self._transport, key)

    def job(self, uid: str) -> Job:
        """How far a job is."""
        return self._transport.get(f"jobs/{uid}", Job)

    def cancel(self, uid: str) -> Job:
        """Ask a job to stop."""
        return self._transport.send("POST", f"jobs/{uid}/cancel", None, Job)

    def look_at_invitation(self, value: str) -> SeenInvitation:
        """What an invitation offers."""
        return self._transport.send("POST", "invitations/look", {"invitation": value}, SeenInvitation)

    def accept_invitation(self, value: str, name: str = "", full_name: str = "", password: str = "") -> Joined:
        """Take an invitation up: as whose token this is, or without one as somebody new."""
        body = {"invitation": value, "name": name, "full_name": full_name, "password": password}
        return self._transport.send("POST", "invitations/accept", body, Joined)

    def log(self, *, person: str = "", act: str = "", limit: int | None = None) -> Iterator[LogEntry]:
        """What one did anywhere, newest first; for who set the installation up, what anybody did."""
        return read_log(self._transport, "log", person=person, act=act, limit=limit)

    def news(self, *, limit: int = 5) -> list[News]:
        """What others did since one last looked, on each shelf that has such news."""
        return self._transport.get("news", list[News], limit=limit)

    def waiting(self) -> list[dict[str, Any]]:
        """What waits for one on all shelves: verdicts, answers, merges; what has waited longest first."""
        return self._transport.get("waiting", list[dict[str, Any]])
