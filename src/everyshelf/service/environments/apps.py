"""The Django app."""

from django.apps import AppConfig


class EnvironmentsConfig(AppConfig):
    """Environments, rehearsal, promotion, rollback."""

    name = "everyshelf.service.environments"
    label = "environments"

    def ready(self) -> None:
        """Let ``env:NAME`` be a ref, and ``verify`` read the records of deployments."""
        from everyshelf.service.environments.actions.manifests import check_deployments, deployed_commit
        from everyshelf.service.shelves.actions.refs import register_ref
        from everyshelf.service.shelves.actions.verify import register_check

        register_ref("env", deployed_commit)
        register_check(check_deployments)
