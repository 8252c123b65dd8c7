"""What everything in the service stands on: settings, the shared store, transactions."""
