"""Environments, rehearsal, promotion, rollback."""
