"""The command line: parses arguments, calls the core, prints."""
