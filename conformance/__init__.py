"""Worlds held against real systems."""
