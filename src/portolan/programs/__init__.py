"""All that differs between server programs, and nowhere else; the engines see it through one Protocol."""
