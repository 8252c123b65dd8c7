"""Backups of a whole installation, made while it runs.

``layout`` says what lies in a backup folder; ``making``, ``checking``, ``restoring`` and ``retention`` work on files
and need no running service; ``actions``, ``jobs`` and ``api`` are for administrators of one that runs.
"""
