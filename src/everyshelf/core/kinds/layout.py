"""Names that drawing programs and editors use for what has no meaning beyond looks."""

from __future__ import annotations

LAYOUT_FIELDS = frozenset(
    [
        "x",
        "y",
        "z",
        "width",
        "height",
        "position",
        "positionX",
        "positionY",
        "left",
        "top",
        "size",
        "zIndex",
        "color",
        "colour",
        "icon",
        "description",
        "doc",
        "comment",
        "comments",
        "note",
        "notes",
        "documentation",
        "collapsed",
        "expanded",
        "selected",
        "zoom",
    ]
)
LAYOUT_PARTS = frozenset(
    [
        "layout",
        "editor",
        "ui",
        "canvas",
        "position",
        "size",
        "bounds",
        "viewport",
        "waypoints",
        "style",
        "styles",
        "diagram",
        "view",
        "gui",
    ]
)
SAVE_STAMPS = frozenset(
    [
        "saved_at",
        "savedAt",
        "modified",
        "modified_at",
        "modifiedAt",
        "lastModified",
        "last_modified",
        "updated_at",
        "updatedAt",
        "exported_at",
        "exportedAt",
        "exporter",
        "exporterVersion",
        "editorVersion",
        "editor_version",
        "buildStamp",
        "generator",
        "generatedAt",
        "generated_at",
    ]
)
