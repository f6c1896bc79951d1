"""`python -m welbik`."""

from .cli.main import main

main()
