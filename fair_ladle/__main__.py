"""`python -m fair_ladle`: the command line."""

from fair_ladle.cli.commands import main

main()
