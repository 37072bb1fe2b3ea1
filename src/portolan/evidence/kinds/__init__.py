"""Every kind of decision, defined once: one module a leg."""
