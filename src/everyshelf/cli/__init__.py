"""The command line: parse, call desk or client, print. No logic lives here."""
