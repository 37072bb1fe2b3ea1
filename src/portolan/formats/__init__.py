"""Text to values and problems, without semantics: estate files, zones, PEM, hosts files, changes."""
