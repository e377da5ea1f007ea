"""Run the command line: python -m amberkeel.cli."""

from amberkeel.cli import main

main()
