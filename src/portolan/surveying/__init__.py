"""The whole estate at a glance: every expectation from every vantage, two states of it side by side, who gets through to what."""
