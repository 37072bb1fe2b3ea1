"""Renderers of finished values: text, JSON, and later pictures and pages. They compute nothing."""
