"""``python -m nodrek``."""

from nodrek.cli.app import main

if __name__ == "__main__":
    main()
