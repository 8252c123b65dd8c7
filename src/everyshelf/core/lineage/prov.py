"""A lineage as PROV-JSON (W3C Member Submission "The PROV-JSON Serialization", 24 April 2013).

Versions are entities, runs, builds, commits and copies are activities, people are agents. Names are those of the
service's own addresses, so that documents of several lineages can be put together.
"""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from everyshelf.core.answers.base import as_builtins
from everyshelf.core.answers.lineage import LineageAnswer, LineageVersion, Making

_TYPES = {"run": "shelf:Run", "build": "shelf:Build", "commit": "shelf:Commit", "copy": "shelf:Copy"}


def as_prov(lineage: LineageAnswer, address: str) -> dict[str, Any]:
    """The document. ``address``: that of the service, in which the names lie."""
    versions = {version.id: version for version in lineage.versions}
    document: dict[str, Any] = {
        "prefix": {"shelf": f"{address.rstrip('/')}/terms#", "at": f"{address.rstrip('/')}/s/"},
        "entity": {_entity(version): _facts(version) for version in lineage.versions},
        "activity": {_activity(step): _done(step) for step in lineage.steps},
        "agent": {},
        "used": {},
        "wasGeneratedBy": {},
        "wasAssociatedWith": {},
        "wasAttributedTo": {},
        "wasDerivedFrom": {},
    }
    for step in lineage.steps:
        done = _activity(step)
        if step.who:
            document["agent"][_agent(step.who)] = {"prov:type": _name("prov:Person"), "prov:label": step.who}
            _add(document["wasAssociatedWith"], {"prov:activity": done, "prov:agent": _agent(step.who)})
        for read in step.reads:
            _add(document["used"], {"prov:activity": done, "prov:entity": _entity(versions[read])})
        for made in step.writes:
            one = {"prov:entity": _entity(versions[made]), "prov:activity": done}
            _add(document["wasGeneratedBy"], one)
            for read in step.reads:
                derived = {"prov:generatedEntity": _entity(versions[made]), "prov:usedEntity": _entity(versions[read])}
                _add(document["wasDerivedFrom"], {**derived, "prov:activity": done})
    for version in lineage.versions:
        if version.author:
            document["agent"].setdefault(
                _agent(version.author), {"prov:type": _name("prov:Person"), "prov:label": version.author}
            )
            _add(document["wasAttributedTo"], {"prov:entity": _entity(version), "prov:agent": _agent(version.author)})
    return {name: held for name, held in document.items() if held}


def _add(held: dict[str, Any], one: dict[str, Any]) -> None:
    held[f"_:n{len(held) + 1}"] = one


def _name(qualified: str) -> dict[str, str]:
    return {"$": qualified, "type": "prov:QUALIFIED_NAME"}


def _local(text: str) -> str:
    """Text as the local part of a qualified name."""
    return quote(text, safe="/-_.~").replace("~", "%7E")


def _entity(version: LineageVersion) -> str:
    number = f"v{version.version}" if version.version is not None else version.content[:16]
    return f"at:{_local(version.shelf)}/artifact/{_local(version.artifact)}/{number}"


def _activity(step: Making) -> str:
    return f"at:{_local(step.shelf)}/{step.sort}/{_local(step.id)}"


def _agent(name: str) -> str:
    return f"at:people/{_local(name)}"


def _facts(version: LineageVersion) -> dict[str, Any]:
    facts: dict[str, Any] = {
        "prov:label": f"{version.artifact} v{version.version}" if version.version is not None else version.artifact,
        "prov:type": _name("shelf:Version"),
        "shelf:kind": version.kind,
        "shelf:content": version.content,
        "shelf:bytes": version.size,
    }
    if version.commit:
        facts["shelf:commit"] = version.commit
    if version.runs_in:
        facts["shelf:environment"] = list(version.runs_in)
    return facts


def _done(step: Making) -> dict[str, Any]:
    told: dict[str, Any] = {"prov:label": step.name, "prov:type": _name(_TYPES[step.sort])}
    if step.began is not None:
        told["prov:startTime"] = as_builtins(step.began)
    if step.command:
        told["shelf:command"] = step.command
    if step.code:
        told["shelf:code"] = step.code
    told |= {f"shelf:parameter-{_local(name).replace('/', '_')}": value for name, value in step.parameters.items()}
    told["shelf:commit"] = step.commit
    return told
