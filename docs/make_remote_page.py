"""Writes the list of calls into docs/remote.md, between its marks."""

from pathlib import Path

from pendel.remote.describe import page

MARK = "<!-- made by docs/make_remote_page.py -->\n"


def main() -> None:
    path = Path(__file__).parent / "remote.md"
    text = path.read_text("utf-8")
    head, _, _ = text.partition(MARK)
    path.write_text(head + MARK + "\n" + page(), "utf-8")


if __name__ == "__main__":
    main()
