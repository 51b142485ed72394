"""``python -m pendel``: the terminal's verbs."""

from pendel.cli.apart import terminal

if __name__ == "__main__":
    terminal()
