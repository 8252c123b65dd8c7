"""The one model every structured kind is read into."""

from everyshelf.core.outline.model import Effect, Finding, Outline, Part, Scalar, Step

__all__ = ["Effect", "Finding", "Outline", "Part", "Scalar", "Step"]
