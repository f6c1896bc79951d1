"""Tables, and the databases that keep them: one file per database."""
