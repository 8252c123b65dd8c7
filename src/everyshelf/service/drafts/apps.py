"""The Django app."""

from django.apps import AppConfig


class DraftsConfig(AppConfig):
    """Drafts and their save points."""

    name = "everyshelf.service.drafts"
    label = "drafts"

    def ready(self) -> None:
        """Let ``draft`` be a ref, lists know what is edited, a finished merge take up the save points it was made of,
        and ``verify`` read them."""
        from everyshelf.service.drafts.actions import check_points, follow_merge, take_up_equal, went_on_from
        from everyshelf.service.drafts.states import draft_state, edited_paths
        from everyshelf.service.shelves.actions.arranging import register_edited
        from everyshelf.service.shelves.actions.committing import own_work
        from everyshelf.service.shelves.actions.merging import after_merging
        from everyshelf.service.shelves.actions.recording import after_recording
        from everyshelf.service.shelves.actions.refs import register_own_ref
        from everyshelf.service.shelves.actions.verify import register_check

        register_own_ref("draft", draft_state)
        register_edited(edited_paths)
        after_merging(follow_merge)
        after_recording(take_up_equal)
        own_work(went_on_from)
        register_check(check_points)
