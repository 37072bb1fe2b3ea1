"""The vocabulary: unchanging typed values that say what is configured. Every engine shares them."""
