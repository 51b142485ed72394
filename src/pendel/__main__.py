"""``python -m pendel``: the terminal's verbs."""

import sys

from pendel.cli.apart import terminal

if __name__ == "__main__":
    sys.exit(terminal())
