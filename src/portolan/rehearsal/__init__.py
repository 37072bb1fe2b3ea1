"""The estate built out of real programs on this machine, and predictions held against what they do."""
