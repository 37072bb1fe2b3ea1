"""Where things are written: spans, places, problems, and text that is safe to print."""
