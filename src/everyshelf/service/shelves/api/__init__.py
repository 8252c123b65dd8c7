"""The HTTP interface of shelves: shapes, views, addresses. No rule lives here."""
