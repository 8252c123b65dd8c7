"""The Django app."""

from django.apps import AppConfig


class EnvironmentsConfig(AppConfig):
    """Environments, rehearsal, promotion, rollback."""

    name = "everyshelf.service.environments"
    label = "environments"

    def ready(self) -> None:
        """Let ``env:NAME`` be a ref."""
        from everyshelf.service.environments.actions.manifests import deployed_commit
        from everyshelf.service.shelves.actions.refs import register_ref

        register_ref("env", deployed_commit)
