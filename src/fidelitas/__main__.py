"""``python -m fidelitas``: the same as the command."""

from fidelitas.cli import main

if __name__ == "__main__":
    main()
