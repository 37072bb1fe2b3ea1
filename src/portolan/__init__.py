"""Portolan works out what a visitor to a published website gets, and why."""
