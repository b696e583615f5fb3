"""`python -m dacha` runs the command line."""

from dacha.entry import program

program()
