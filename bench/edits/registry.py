"""All formats for which edits are generated."""

from bench.edits.flows import JSON, YAML
from bench.edits.others import FEATURE, NOTEBOOK, TABLE, TEXT
from bench.edits.processes import XML

FORMATS = (JSON, YAML, XML, TABLE, NOTEBOOK, FEATURE, TEXT)
