"""What a value must obey, in a form every target can be made from."""
