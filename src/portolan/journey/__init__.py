"""One visit, end to end: the only place that knows the order of things."""
