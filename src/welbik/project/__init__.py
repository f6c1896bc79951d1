"""A project on disk: its settings, declarations, files, database, and what is out of step."""
