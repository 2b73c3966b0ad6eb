"""`python -m mosscrate.cli`."""

from mosscrate.cli.app import main

main()
