"""Outline by outline, table by table, text by text: findings."""

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.result import Comparison

__all__ = ["ArtifactSide", "Comparison", "compare_artifacts"]
