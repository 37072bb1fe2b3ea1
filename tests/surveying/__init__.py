"""The whole estate at a glance."""
