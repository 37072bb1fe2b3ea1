"""Real configuration read in: each reader asks or reads one kind of source and gives text that an estate takes."""
