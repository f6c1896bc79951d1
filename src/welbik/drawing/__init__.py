"""Diagrams of models and their relations: layout, then SVG, PNG or DOT."""
