"""Settings: keys and values in JSON, YAML, TOML, INI, .env, .properties and XML."""

from __future__ import annotations

from everyshelf.core.kinds.table import KindTable

TABLE = KindTable(id="settings")
