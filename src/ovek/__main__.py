"""`python -m ovek` is the same as `ovek`."""

from ovek.cli import main

main()
