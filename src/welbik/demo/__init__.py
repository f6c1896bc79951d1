"""The example project's declarations."""
