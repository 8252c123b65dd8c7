"""The Python client of an Every Shelf service. It knows the HTTP interface, and of the core only the types of
answers.

::

    from everyshelf.client import Client

    shelf = Client("http://127.0.0.1:7463", token).shelf("skerry-line")
    for artifact in shelf.artifacts(ref="tag:spring-2"):
        print(artifact.path, artifact.version)
"""

from everyshelf.client.client import Client
from everyshelf.client.errors import ClientError, ProblemError, UnreachableError
from everyshelf.client.models import (
    Artifact,
    ArtifactVersion,
    Binding,
    Branch,
    ChangeRequest,
    Commit,
    CommitListed,
    CommitMessage,
    Content,
    Deployment,
    Draft,
    Environment,
    Invitation,
    Job,
    LogEntry,
    MadeToken,
    Member,
    Merge,
    SavePoint,
    Saving,
    Shelf,
    Tag,
    Token,
    WaitingMerge,
)
from everyshelf.client.shelf import ShelfClient

__all__ = [
    "Artifact",
    "ArtifactVersion",
    "Binding",
    "Branch",
    "ChangeRequest",
    "Client",
    "ClientError",
    "Commit",
    "CommitListed",
    "CommitMessage",
    "Content",
    "Deployment",
    "Draft",
    "Environment",
    "Invitation",
    "Job",
    "LogEntry",
    "MadeToken",
    "Member",
    "Merge",
    "ProblemError",
    "SavePoint",
    "Saving",
    "Shelf",
    "ShelfClient",
    "Tag",
    "Token",
    "UnreachableError",
    "WaitingMerge",
]
