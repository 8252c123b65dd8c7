"""A comparison to keep and to send: one self-contained HTML page, Markdown, or JSON."""
