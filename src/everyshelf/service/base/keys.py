"""The key that seals secrets at rest. It lies outside the data folder, so that a copy of that folder holds no secret.

Values are sealed with Fernet (AES-128-CBC and HMAC-SHA-256; the specification is part of the package cryptography).
A digest of a value is keyed (HMAC-SHA-256, RFC 2104), so that nobody without the key can try values against it.
"""

from __future__ import annotations

import functools
import hashlib
import hmac
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from everyshelf.core.durable import write_durably
from everyshelf.core.errors import BrokenError
from everyshelf.service.base.config import get_config
from everyshelf.service.base.key_files import damaged_key, read_or_make


@functools.cache
def _key() -> bytes:
    """Made at the first use, readable by its owner only; raises ``BrokenError`` for a file that holds no key."""
    path = get_config().key_file
    key = read_or_make(path, Fernet.generate_key, "secrets.key")
    try:
        Fernet(key)
    except ValueError as error:
        raise damaged_key(path, "secrets.key") from error
    return key


_KNOWN = b"every shelf"


def check_keys() -> str:
    """Raise, naming the file, if the key of secrets or of sessions cannot be used: at start, not at a sign-in. Gives a
    line if the key of secrets is not the one that was used here before."""
    key, mark = _key(), get_config().data / "sealed-mark"
    get_config().secret_key()
    try:
        if Fernet(key).decrypt(mark.read_bytes()) == _KNOWN:
            return ""
    except FileNotFoundError:
        _write_mark(mark, key)
        return ""
    except (OSError, InvalidToken, ValueError):
        pass
    return (
        f"the key of secrets {get_config().key_file} is another one than before, so what that one sealed cannot be"
        f" opened; bring it back, or set secrets and tokens of environments again and delete {mark}"
    )


def _write_mark(mark: Path, key: bytes) -> None:
    write_durably(mark, Fernet(key).encrypt(_KNOWN))


def seal(value: str) -> bytes:
    """``value``, readable with the key only."""
    return seal_bytes(value.encode())


def seal_bytes(value: bytes) -> bytes:
    """As ``seal``."""
    return Fernet(_key()).encrypt(value)


def unseal(sealed: bytes | memoryview) -> str:
    """Raises ``BrokenError`` if it was sealed with another key."""
    return unseal_bytes(sealed).decode()


def unseal_bytes(sealed: bytes | memoryview) -> bytes:
    """As ``unseal``."""
    try:
        return Fernet(_key()).decrypt(bytes(sealed))
    except (InvalidToken, ValueError) as error:
        raise BrokenError(
            "a secret cannot be opened: it was sealed with another key",
            code="secrets.key",
            hint=f"Bring {get_config().key_file} back, or set the secrets again.",
        ) from error


def digest(text: str) -> str:
    """Equal for equal texts; without the key nothing can be told from it. 64 hex digits."""
    return hmac.new(hashlib.sha256(b"digest" + _key()).digest(), text.encode(), hashlib.sha256).hexdigest()
