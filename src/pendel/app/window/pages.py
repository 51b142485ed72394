"""The pages of the window, in the order of their keys. Another one costs its package and a line here."""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib import import_module
from threading import Thread

from pendel.app.session.page import Page
from pendel.app.session.session import Session
from pendel.core.catalogue.index import kinds
from pendel.core.drive import file
from pendel.core.loops.tuning.rules.table import RULES


def load_ahead() -> Thread:
    """Load what pages are made of, and what reading a drive takes, in a thread, so that the first use of
    neither holds anything up."""

    def load() -> None:
        with kept_for_good():
            file.quick_validator()
            kinds()
            list(RULES)  # those of other packages, too
            for page in PAGES:
                page.load()

    return in_thread(load)


@contextmanager
def kept_for_good() -> Iterator[None]:
    """What is loaded within is never looked at for garbage.

    It is modules, classes and tables, some hundred thousand objects that stay. Looking through all of them takes
    40 to 80 ms, in which the window does not respond."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def in_thread(load: Callable[[], None]) -> Thread:
    thread = Thread(target=load, name="load pages", daemon=True)
    thread.start()
    return thread


LOADED: set[str] = set()
"""Modules of pages that are loaded, whole."""


@dataclass(frozen=True)
class PageSpec:
    """``key`` goes with Alt; those of pages to come are left free."""

    title: str
    key: int
    module: str
    name: str

    @property
    def is_loaded(self) -> bool:
        """Whether building the page waits for nothing: what is loaded in another thread may take seconds."""
        return self.module in LOADED

    def load(self) -> None:
        import_module(self.module)
        LOADED.add(self.module)

    def make(self, session: Session) -> Page:
        """The page, which is still to be built."""
        self.load()
        page: Page = getattr(import_module(self.module), self.name)(session)
        return page


PAGES = (
    PageSpec("Drive", 1, "pendel.app.drive.page", "DrivePage"),
    PageSpec("Runs", 2, "pendel.app.runs.page", "RunsPage"),
    PageSpec("Loops", 3, "pendel.app.loops.page", "LoopsPage"),
    PageSpec("Series", 4, "pendel.app.series.page", "SeriesPage"),
    PageSpec("Firmware", 5, "pendel.app.firmware.page", "FirmwarePage"),
    PageSpec("Bench", 6, "pendel.app.bench.page", "BenchPage"),
)
