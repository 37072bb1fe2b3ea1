"""Handshakes: which certificate is shown, and what the visitor makes of it."""
