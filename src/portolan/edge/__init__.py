"""Caching edges: which requests they take, what they hold, whom they ask."""
