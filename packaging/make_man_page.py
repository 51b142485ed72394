"""Write the manual page of the command from its parser: ``python packaging/make_man_page.py``."""

from __future__ import annotations

import os
from pathlib import Path

os.environ["COLUMNS"] = "80"  # lines of usage are broken alike everywhere
os.environ["SOURCE_DATE_EPOCH"] = "0"

from argparse_manpage.manpage import Manpage  # noqa: E402

from pendel import __version__  # noqa: E402
from pendel.cli.main import parser  # noqa: E402

PAGE = Path(__file__).with_name("pendel.1")


def page() -> str:
    about = {
        "manual_title": "Pendel",
        "project_name": "pendel",
        "version": __version__,
        "description": "motor drives: model, simulate, tune, ship",
    }
    return str(Manpage(parser(), about, format="single-commands-section"))


if __name__ == "__main__":
    PAGE.write_text(page(), "utf-8")
