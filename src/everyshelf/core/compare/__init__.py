"""Outline by outline, table by table, text by text: findings."""
