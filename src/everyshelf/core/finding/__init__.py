"""Words inside artifacts: where they stand, and which of them are meant."""
