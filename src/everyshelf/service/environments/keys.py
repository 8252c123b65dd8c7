"""The key that seals secrets at rest. It lies outside the data folder, so that a copy of that folder holds no secret.

Values are sealed with Fernet (AES-128-CBC and HMAC-SHA-256; the specification is part of the package cryptography).
A digest of a value is keyed (HMAC-SHA-256, RFC 2104), so that nobody without the key can try values against it.
"""

from __future__ import annotations

import functools
import hashlib
import hmac
import os

from cryptography.fernet import Fernet, InvalidToken

from everyshelf.core.errors import BrokenError, StorageError
from everyshelf.service.config import get_config


@functools.cache
def _key() -> bytes:
    """Made at the first use, readable by its owner only."""
    path = get_config().key_file
    try:
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "wb") as file:
                file.write(Fernet.generate_key())
        return path.read_bytes().strip()
    except OSError as error:
        raise StorageError(
            f"the key of secrets cannot be read or made at {path}: {error.strerror}",
            code="secrets.key",
            hint="Give the service rights there, or name another file with EVERYSHELF_KEY_FILE.",
        ) from error


def seal(value: str) -> bytes:
    """``value``, readable with the key only."""
    return Fernet(_key()).encrypt(value.encode())


def unseal(sealed: bytes) -> str:
    """Raises ``BrokenError`` if it was sealed with another key."""
    try:
        return Fernet(_key()).decrypt(bytes(sealed)).decode()
    except (InvalidToken, ValueError) as error:
        raise BrokenError(
            "a secret cannot be opened: it was sealed with another key",
            code="secrets.key",
            hint=f"Bring {get_config().key_file} back, or set the secrets anew.",
        ) from error


def digest(text: str) -> str:
    """Equal for equal texts; without the key nothing can be told from it. 64 hex digits."""
    return hmac.new(hashlib.sha256(b"digest" + _key()).digest(), text.encode(), hashlib.sha256).hexdigest()
