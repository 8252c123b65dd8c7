"""Promotion: rehearse, stage, switch, verify, record; and the places an environment's artifacts live in."""
