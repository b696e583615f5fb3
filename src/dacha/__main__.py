"""`python -m dacha` runs the command line."""

from dacha.cli.main import program

program()
