"""Decisions: what was asked, who decided, by which object and line, and what came of it."""
