"""Tables that are there → declarations that describe them."""
