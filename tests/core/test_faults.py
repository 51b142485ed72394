"""A fixed part of the campaign that `./run faults` goes through at length."""

from random import Random

import pytest

from tests.campaigns.faults.boundaries import BOUNDARIES, end_worker
from tests.campaigns.faults.report import Boundary, table

ROUNDS = {
    "expressions": 1500,
    "own lines": 150,
    "damaged files": 120,
    "edits": 40,
    "kept runs": 30,
    "flux files": 12,
    "values of kinds": 200,
    "odd runs": 8,
    "values far off": 5,
    "kills while saving": 40,
    "full disks": 5,
    "answers of boards": 60,
    "forged answers": 200,
    "strangers at a board": 60,
    "sheets wired by themselves": 400,
}


ANSWERED_OTHERWISE = (
    "own lines",
    "values of kinds",
    "values far off",
    "kills while saving",
    "full disks",
    "sheets wired by themselves",
)
"""By findings, or not at all."""


@pytest.fixture(autouse=True, scope="module")
def runs_process():
    yield
    end_worker()


@pytest.mark.parametrize("name", BOUNDARIES)
def test_nothing_foreign_comes_through(name):
    """Sentences of ours, and no other exception, no hang, no file that is gone."""
    boundary = Boundary(name)
    for number in range(ROUNDS[name]):
        BOUNDARIES[name](Random(f"{name} tests {number}"), boundary)
    assert not boundary.failed, table([boundary])
    assert boundary.count >= ROUNDS[name]
    if name not in ANSWERED_OTHERWISE:
        assert boundary.refused, "nothing odd was tried"
