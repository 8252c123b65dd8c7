"""Other places where segments live than a folder: buckets of an S3-compatible service.

``addresses`` and ``bucket`` reach one, ``fetched`` keeps what was read from it, ``home`` is the place of a store whose
sealed segments live in one, ``moving`` sends them there and brings them back. Nothing here knows records, HTTP or the
command line.
"""
