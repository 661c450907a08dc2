"""The command line: parse, call one function, print, exit.

The only room that imports Click or prints.  Commands are imported when they are called, so that ``--help`` costs little more than Click.
"""

from fidelitas.cli.main import main

__all__ = ["main"]
