"""Names to addresses: what a zone answers, how a resolver walks, what a client does before it asks anybody."""
