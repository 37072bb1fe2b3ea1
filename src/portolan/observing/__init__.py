"""What is seen of the real thing, held against what the estate says: typed or probed, it is the same."""
