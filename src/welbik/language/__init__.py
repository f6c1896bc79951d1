"""Text to a syntax tree with a span on every node. Standard library only."""
