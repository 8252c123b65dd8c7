"""Who may do what: people, roles, tokens, sign-in."""
