"""A promotion that was made, to keep or to send: what it changed, under which conditions, who made that and why."""

from __future__ import annotations

from dataclasses import replace

from django.utils import timezone

from everyshelf.core.answers.states import ComparedArtifact, StateComparison
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.errors import ConflictError, MissingError
from everyshelf.core.report.document import Conditions, Form, report_of_promotion, written
from everyshelf.service.base.context import get_trees
from everyshelf.service.checks.actions import checks_of
from everyshelf.service.environments.actions.gates import reviews_of
from everyshelf.service.environments.actions.manifests import Record, load_record
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.comparison import compare_whole
from everyshelf.service.shelves.actions.makers import made_between
from everyshelf.service.shelves.actions.refs import Resolved, resolve

_MOST_FINDINGS = 200


def report_on_deployment(caller: Caller, environment: Environment, number: int, form: Form) -> str:
    """A deployment as HTML, Markdown or JSON. Raises ``MissingError``, and ``ConflictError`` while it is not done or
    a job is comparing."""
    rows = environment.deployments.select_related("tag", "commit", "previous__commit", "rolled_back_to")
    deployment = rows.filter(number=number).first()
    if deployment is None:
        raise MissingError(
            f"the environment {environment.name} has no deployment {number}",
            code="deployment.missing",
            hint=f"List them: everyshelf env show {environment.name}",
        )
    if deployment.state != Phase.RECORDED:
        raise ConflictError(
            f"deployment {number} of {environment.name} is {deployment.state}: only a finished one has a report",
            code="deployment.unfinished",
            hint=f"See everyshelf env show {environment.name}",
        )
    shelf = environment.shelf
    before, after = _state_of(deployment.previous, environment), _state_of(deployment, environment)
    compared = compare_whole(caller, shelf, before, after, shown=_MOST_FINDINGS)
    _only_there(compared, load_record(deployment.previous.manifest if deployment.previous else ""), deployment)
    report = report_of_promotion(
        compared,
        title=f"Deployment {number} in {environment.name}, {shelf.name}",
        made=timezone.now(),
        sentence=_sentence(deployment),
        conditions=_conditions(environment, deployment),
        commits=made_between(shelf, before, after, compared.artifacts),
    )
    return written(report, form)


def _state_of(deployment: Deployment | None, environment: Environment) -> Resolved:
    """The state of the shelf that a deployment put there; before the first one, an empty one."""
    shelf = environment.shelf
    if deployment is None:
        return Resolved("nothing", "commit", None, get_trees().empty)
    state = resolve(shelf, f"commit:{deployment.commit.uid}")
    kind = "draft" if deployment.root else state.kind
    return replace(state, ref=f"tag:{deployment.tag.name}", root=deployment.root or state.root, kind=kind)


def _only_there(compared: StateComparison, before: Record, deployment: Deployment) -> None:
    """Leave only artifacts that the environment took: of the two states it may hold a part."""
    after = load_record(deployment.manifest)

    def is_there(artifact: ComparedArtifact) -> bool:
        return artifact.path in after or artifact.old_path in before

    compared.artifacts = [artifact for artifact in compared.artifacts if is_there(artifact)]
    effects: dict[str, int] = {}
    for artifact in compared.artifacts:
        for effect, count in artifact.effects.items():
            effects[effect] = effects.get(effect, 0) + count
    compared.effects = effects
    compared.same = deployment.counts.get("same", compared.same)


def _sentence(deployment: Deployment) -> str:
    counts = deployment.counts
    changed = ", ".join(f"{counts[name]} {name}" for name in ("added", "changed", "removed") if counts.get(name))
    what = f"put tag:{deployment.tag.name} in place"
    if deployment.rolled_back_to is not None:
        what = f"went back to deployment {deployment.rolled_back_to.number}, tag:{deployment.tag.name}"
    ended = f" on {deployment.ended:%Y-%m-%d %H:%M}" if deployment.ended else ""
    read = "not all of it reads back as put" if deployment.unverified else "read back and verified"
    return f"{deployment.who} {what}{ended}: {changed or 'nothing changed'}; {read}."


def _conditions(environment: Environment, deployment: Deployment) -> Conditions:
    """Checks and reviews of what was promoted by then, gates that were overruled, and what did not read back."""
    found: list[tuple[bool, str, str]] = []
    if deployment.reason:
        found.append((True, "reason", deployment.reason))
    found += [(False, gate["gate"], f"{gate['message']}; overruled") for gate in deployment.forced]
    for review in reviews_of(environment, deployment.commit):
        if review.given <= deployment.begun:
            said = review.comment or ("agrees" if review.agrees else "is against it")
            found.append((review.agrees, f"review of {review.person.username}", said))
    for check in checks_of(deployment.commit):
        if check.made <= deployment.begun:
            found.append(
                (check.passed, f"check {check.name}", check.comment or ("passed" if check.passed else "failed"))
            )
    if deployment.overwrite_drift:
        found.append((True, "drift", "changes made there were allowed to be overwritten"))
    found += [(True, "lost", f"{name} was allowed to be lost there") for name in map(str, deployment.lose)]
    found += [(False, "verify", f"{path} does not read back as it was put") for path in map(str, deployment.unverified)]
    if deployment.side_effects:
        told = count_noun(len(deployment.side_effects), "artifact")
        found.append((True, "destination", f"changed {told} by itself"))
    return found or [(True, "no gate", "nothing had to be met")]
