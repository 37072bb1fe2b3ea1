"""The real thing asked from this machine, leg by leg: only what a visitor does, bounded in count and time."""
