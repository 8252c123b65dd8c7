"""Syntaxes: bytes to a plain tree and what is needed to tell layout from meaning. Nothing here knows any kind."""
