"""Remedies: changes to the estate, proposed by fault, proven by asking again."""
