"""The command line: one file a verb, loaded when it is called."""

from __future__ import annotations


def main() -> None:
    """The entry point ``oaktag``."""
    from oaktag.cli.app import run

    run()
