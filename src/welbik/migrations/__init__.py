"""Difference of two schemas to steps, and steps run against a database."""
