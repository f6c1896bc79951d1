"""The generated application: `kit/` and `look/` are copied as they stand, the rest are templates."""
