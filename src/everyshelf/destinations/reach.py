"""Which hosts the service may call, asked at every connection and not only when an address is named.

Names are resolved once for each connection, every address they stand for is checked, and the connection goes to the one
that was checked: a name that stands for another address a moment later reaches nothing.
"""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Iterable
from dataclasses import dataclass

import httpcore
import httpx

from everyshelf.core.errors import OutOfReachError, RefusedError

ANY_PUBLIC = "*"


@dataclass(frozen=True)
class Reach:
    """``hosts``: HOST, HOST:PORT, a network (10.1.0.0/16), ``*.DOMAIN`` for all names below it, ``*`` for every public
    host. Private, loopback and link-local addresses are reached only where they, their name or their network is named.
    """

    hosts: tuple[str, ...] = ()

    def check_name(self, host: str, port: int) -> None:
        """Raise ``RefusedError`` (destination.host) for a host that may not be called; asks no name server."""
        if not host or any(c in host for c in "/\\,@ \t\r\n%"):
            raise _refused(host, port)
        if self._names(host, port):
            return
        address = _address(host)
        if address is None:
            if not (self._any or any("/" in entry for entry in self.hosts)):
                raise _refused(host, port)  # else what it stands for decides, at the connection
        elif not (self._network_of(address) or (self._any and address.is_global)):
            raise _refused(host, port)

    def resolved(self, host: str, port: int) -> str:
        """The address to connect to. Raises ``RefusedError`` where it may not be called and ``OutOfReachError`` for a
        name that stands for none."""
        self.check_name(host, port)
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise OutOfReachError(f"{host} stands for no address: {error}") from error
        named = self._names(host, port)
        for *_, place in found:
            address = ipaddress.ip_address(str(place[0]).partition("%")[0])
            if not (named or self._network_of(address) or (self._any and address.is_global)):
                raise _refused(host, port, str(address))
        return str(found[0][4][0])

    @property
    def _any(self) -> bool:
        return ANY_PUBLIC in self.hosts

    def _names(self, host: str, port: int) -> bool:
        host = host.lower().strip("[]").rstrip(".")
        for entry in self.hosts:
            name, known_port = _split(entry)
            if known_port is not None and known_port != port:
                continue
            if name == host or (name.startswith("*.") and host.endswith(name[1:])):
                return True
        return False

    def _network_of(self, address: ipaddress.IPv4Address | ipaddress.IPv6Address | None) -> bool:
        if address is None:
            return False
        for entry in self.hosts:
            if "/" in entry:
                try:
                    network = ipaddress.ip_network(entry, strict=False)
                except ValueError:
                    continue
                if address.version == network.version and address in network:
                    return True
        return False


def _split(entry: str) -> tuple[str, int | None]:
    if entry.startswith("["):
        name, _, rest = entry[1:].partition("]")
        return name.lower(), int(rest[1:]) if rest[1:].isdigit() else None
    name, colon, port = entry.rpartition(":")
    if colon and port.isdigit() and ":" not in name:
        return name.lower(), int(port)
    return entry.lower(), None


def _address(host: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address | None:
    try:
        return ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        pass
    try:
        # inet_aton(3) takes 127.1, 2130706433 and 0x7f000001 for addresses, and so does whoever connects.
        return ipaddress.ip_address(socket.inet_aton(host))
    except OSError:
        return None


def _refused(host: str, port: int, address: str = "") -> RefusedError:
    meaning = f", which stands for {address}," if address and address != host else ""
    return RefusedError(
        f"the service may not call {host}:{port}{meaning}",
        code="destination.host",
        hint="An administrator can allow it: EVERYSHELF_REACH=HOST or HOST:PORT, comma-separated.",
    )


# --- for the library that connects ----------------------------------------------------


class _Backend(httpcore.NetworkBackend):
    """Connects to checked addresses only; TLS still asks for the name."""

    def __init__(self, reach: Reach) -> None:
        self._reach = reach
        self._inner = httpcore.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        return self._inner.connect_tcp(self._reach.resolved(host, port), port, timeout, local_address, socket_options)


class ReachTransport(httpx.HTTPTransport):
    """A transport of httpx that connects within a reach."""

    def __init__(self, reach: Reach) -> None:
        super().__init__(trust_env=False)
        self._pool._network_backend = _Backend(reach)
