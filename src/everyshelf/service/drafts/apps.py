"""The Django app."""

from django.apps import AppConfig


class DraftsConfig(AppConfig):
    """Drafts and their save points."""

    name = "everyshelf.service.drafts"
    label = "drafts"

    def ready(self) -> None:
        """Let ``draft`` be a ref, and let a finished merge take up the save points it was made of."""
        from everyshelf.service.drafts.actions import follow_merge
        from everyshelf.service.drafts.states import draft_state
        from everyshelf.service.shelves.actions.merging import after_merging
        from everyshelf.service.shelves.actions.refs import register_own_ref

        register_own_ref("draft", draft_state)
        after_merging(follow_merge)
