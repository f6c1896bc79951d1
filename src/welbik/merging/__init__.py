"""What was written by hand and what is generated anew, brought together."""
