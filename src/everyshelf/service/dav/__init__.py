"""Shelves as a network folder (WebDAV, RFC 4918): every branch and tag to read, one's drafts to read and write.

    /SHELF/branches/NAME/…      as committed
    /SHELF/tags/NAME/…
    /SHELF/draft/BRANCH/…       what one is working on: what is written here is saved in one's draft

A slash in the name of a branch or tag is written ``~``, which no name holds. ``folders`` says what lies where,
``writing`` what a change means for a draft, ``locks`` where locks are kept; the protocol itself is WsgiDAV's
(``protocol``).
"""
