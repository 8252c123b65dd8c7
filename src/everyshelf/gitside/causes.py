"""Where another repository is, and why Git could not reach or change it: its own words, told with what to do next."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlsplit

from everyshelf.core.errors import (
    EveryShelfError,
    InvalidError,
    LimitError,
    MissingError,
    OutOfReachError,
    RefusedError,
    StorageError,
)
from everyshelf.gitside.program import GitError, last_message

_SSH = re.compile(r"(?:ssh://)?(?:(?P<user>[\w.-]+)@)?(?P<host>[\w.-]+)(?::(?P<port>\d+))?(?P<path>[:/].+)\Z")


@dataclass(frozen=True)
class Access:
    """How a repository is reached. ``user`` and ``token``: asked for by a server of HTTP (RFC 7617). ``key``: a private
    key for SSH; ``known_hosts``: lines that say which keys its server has. ``resolved``: HOST:PORT:ADDRESS that a
    connection has to go to, so that a name that stands for another address a moment later reaches nothing."""

    address: str
    user: str = ""
    token: str = ""
    key: str = ""
    known_hosts: str = ""
    resolved: str = ""

    @property
    def is_http(self) -> bool:
        """Whether it is reached over http or https."""
        return urlsplit(self.address).scheme in ("http", "https")

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder of this machine."""
        return self.address.startswith("/")

    @property
    def shown(self) -> str:
        """The address without a name or password in it."""
        parts = urlsplit(self.address)
        if not parts.scheme:
            return self.address
        return parts._replace(netloc=parts.netloc.rpartition("@")[2]).geturl()


_Make = Callable[[str, str, str], EveryShelfError]


def _as(kind: type[EveryShelfError], code: str, words: str, hint: str) -> _Make:
    return lambda address, said, host: kind(
        words.format(address=address, host=host, said=said), code=code, hint=hint.format(address=address, host=host)
    )


_CAUSES: tuple[tuple[str, _Make], ...] = (
    (
        r"Could not resolve (host|proxy)|Name or service not known|Temporary failure in name resolution",
        _as(OutOfReachError, "git.host", "the host {host} is not known", "Look at the address: {address}."),
    ),
    (
        r"SSL certificate|certificate verif|unable to get local issuer|self.signed certificate|server certificate",
        _as(
            OutOfReachError,
            "git.certificate",
            "the certificate of {host} is not trusted: {said}",
            "Have the server renew it, or let the machine of the service trust who issued it.",
        ),
    ),
    (
        r"Host key verification failed|No .* host key is known|REMOTE HOST IDENTIFICATION",
        _as(
            RefusedError,
            "git.host_key",
            "the key of {host} is not the one that is known",
            "Give the link the server's own line: ssh-keyscan {host}, checked with whoever runs it.",
        ),
    ),
    (
        r"Failed to connect|Connection refused|Connection timed out|No route to host|Connection reset|timed out",
        _as(
            OutOfReachError, "git.connection", "{host} does not answer: {said}", "See whether it runs, then try again."
        ),
    ),
    (
        r"Permission denied \(",
        _as(
            RefusedError,
            "git.signin",
            "{host} does not know the key of this link",
            "Add its public half there, or give the link another key: everyshelf git-link change NAME --key-file FILE",
        ),
    ),
    (
        r"expired",
        _as(
            RefusedError,
            "git.expired",
            "the token for {host} has expired: {said}",
            "Give the link another one: everyshelf git-link change NAME --token -",
        ),
    ),
    (
        r"Authentication failed|could not read (Username|Password)|returned error: 401|HTTP Basic: Access denied",
        _as(
            RefusedError,
            "git.signin",
            "{host} does not know the user and token of this link",
            "Give the link a token that is known there: everyshelf git-link change NAME --token -",
        ),
    ),
    (
        r"returned error: 403|[Ww]rite access .* not granted|not allowed to push|denied to|READ ONLY|read.only",
        _as(
            RefusedError,
            "git.rights",
            "the token may read {address} and not write to it",
            "Give it the right to write there, or let the link fetch only: everyshelf git-link change NAME --way fetch",
        ),
    ),
    (
        r"[Oo]ut of memory|[Cc]annot allocate memory|mmap failed|died of signal 24",
        _as(LimitError, "git.size", "{address} sent more than this service takes: {said}", "Look at the address."),
    ),
    (
        r"No space left on device|disk quota|out of disk space|unable to write .*: No space|signal 25|File too large",
        _as(StorageError, "git.disk", "a disk is full: {said}", "Make room there (or here) and try again."),
    ),
    (
        r"not found|does not appear to be a git repository|does not exist|returned error: 404|no such repository",
        _as(
            MissingError,
            "git.missing",
            "{address} is not a repository, or not one that this user may see",
            "Look at the address; a repository without commits is fine.",
        ),
    ),
    (
        r"object format|sha256|mismatched algorithms",
        _as(
            InvalidError,
            "git.object_format",
            "{address} names its objects by SHA-256, which is not supported yet",
            "Use a repository with SHA-1 ids.",
        ),
    ),
    (
        r"fsck error|did not match|index-pack failed|inflate|corrupt|bad object",
        _as(
            InvalidError,
            "git.objects",
            "{address} sent objects that are damaged or not allowed: {said}",
            "Have them checked there: git fsck.",
        ),
    ),
    (
        r"couldn't find remote ref",
        _as(MissingError, "git.branch", "a branch is not there any more: {said}", "See everyshelf git-link show."),
    ),
    (
        r"protocol .* is not supported|transport .* not allowed|remote helper|unsupported protocol",
        _as(
            InvalidError,
            "git.address",
            "{address} is not an address of a repository",
            "Use https://, ssh:// or a folder.",
        ),
    ),
)


def why_of(error: GitError, access: Access) -> EveryShelfError:
    """The cause behind what Git said, with what to do about it."""
    if error.code == "git.slow":
        return LimitError(f"{access.shown} took too long", code="git.slow", hint="It is tried again later.")
    if error.code == "git.size":
        return LimitError(f"{access.shown} answers without end", code="git.size", hint="Look at the address.")
    host = host_of(access.address)
    lines = [line for line in error.said.split("\n") if line.strip()]
    for pattern, made in _CAUSES:
        found = next((line for line in lines if re.search(pattern, line, re.IGNORECASE)), None)
        if found is not None:
            return made(access.shown, plain(found, access), host)
    said = plain(last_message(lines), access)
    return OutOfReachError(f"{access.shown} failed: {said}", code="git.failed", hint="It is tried again later.")


def host_of(address: str) -> str:
    """The host in an address; the address itself for a folder."""
    parts = urlsplit(address)
    if parts.hostname:
        return parts.hostname
    found = _SSH.match(address)
    return found["host"] if found is not None and not address.startswith(("/", ".")) else address


def plain(line: str, access: Access) -> str:
    """What Git said, without the prefix and without a secret."""
    text = re.sub(r"^(remote|fatal|error|warning): *", "", line.strip())
    for secret in (access.token, access.key):
        text = text.replace(secret, "…") if secret else text
    return text.strip()[:300]
