"""The answer: which site takes a request, and what it gives."""
