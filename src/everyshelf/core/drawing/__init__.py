"""Pipelines and workflows as drawings: what is where and what leads to what, of one version or of two at once."""
