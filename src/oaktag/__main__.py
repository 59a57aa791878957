"""``python -m oaktag``: the command line."""

from oaktag.cli import main

if __name__ == "__main__":
    main()
