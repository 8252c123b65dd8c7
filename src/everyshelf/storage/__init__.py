"""Other places where segments live than the data folder: buckets of an S3-compatible service, and other folders.

``addresses`` says how they are written, ``away`` what each can do; ``bucket`` and ``folder`` are the two. ``fetched``
keeps what was read from one, ``home`` is the place of stores whose sealed segments live in them, ``moving`` sends them
there and brings them back. Nothing here knows records, HTTP or the command line.
"""
