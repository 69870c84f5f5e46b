"""`python -m lithon` is the command line, and without arguments the window."""

from lithon.cli import main

main()
