"""How passwords are kept: Argon2id (RFC 9106) with the least that OWASP's Password Storage Cheat Sheet recommends.

It is the memory that makes guessing dear (19 MiB for each try), so that a sign-in stays quick on a small machine.
"""

from __future__ import annotations

from django.contrib.auth.hashers import Argon2PasswordHasher


class Argon2(Argon2PasswordHasher):
    """19 MiB, two passes, one lane."""

    time_cost = 2
    memory_cost = 19 * 1024
    parallelism = 1
