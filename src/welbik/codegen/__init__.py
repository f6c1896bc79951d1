"""What to write for a schema, and writing it: all of it or nothing."""
