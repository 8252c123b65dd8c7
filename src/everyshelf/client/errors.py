"""What can go wrong between a client and a service."""

from __future__ import annotations

from typing import Any


class ClientError(Exception):
    """Root of the client's errors; ``code`` is stable, ``hint`` is the next step."""

    def __init__(self, message: str, *, code: str = "client.failed", hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.code = code
        self.hint = hint


class UnreachableError(ClientError):
    """No answer came from the service. ``reached``: it may have got the request, and done what it asks for."""

    def __init__(self, message: str, *, code: str = "client.failed", hint: str = "", reached: bool = False) -> None:
        super().__init__(message, code=code, hint=hint)
        self.reached = reached


class ProblemError(ClientError):
    """The service answered with a problem (RFC 9457); ``problem`` holds all of it. ``wait``: seconds after which the
    service asks to be tried again (Retry-After); 0 if it does not."""

    def __init__(self, status: int, problem: dict[str, Any], wait: float = 0.0) -> None:
        super().__init__(
            _message(problem, status), code=problem.get("code", "service.failed"), hint=problem.get("hint", "")
        )
        self.status = status
        self.problem = problem
        self.wait = wait


def _message(problem: dict[str, Any], status: int) -> str:
    message = str(problem.get("detail") or f"the service answered {status}")
    fields = [f"{e.get('pointer', '')}: {e.get('detail', '')}" for e in problem.get("errors", [])]
    return f"{message} {'; '.join(fields)}".strip()
