"""Results that take long: worked out once, and by whoever can wait."""

import pickle
import threading

import pytest

from pendel.core.worked_out import KEPT, NotYet, at_once, worked_out

CALLS = []


@worked_out
def squared(x):
    CALLS.append(x)
    return x * x


@worked_out
def of_squares(x):
    return squared(x) + squared(x + 1)


@pytest.fixture(autouse=True)
def nothing_known():
    CALLS.clear()
    for each in (squared, of_squares):
        each.forget()


def test_a_result_is_worked_out_once():
    assert [squared(3), squared(3), squared(-3)] == [9, 9, 9]
    assert CALLS == [3, -3]


def test_at_once_nothing_is_worked_out_and_what_is_known_is_there():
    squared(2)
    with at_once() as later:
        assert squared(2) == 4
        for _ in range(2):
            with pytest.raises(NotYet):
                squared(5)
        with pytest.raises(NotYet):
            squared(6)
    assert CALLS == [2]
    assert [work.arguments for work in later] == [(5,), (6,)]


def test_what_is_listed_is_what_was_asked_for_and_not_what_it_needs():
    """Whoever works it out may wait, and needs the whole."""
    with at_once() as later, pytest.raises(NotYet):
        of_squares(1)
    (work,) = later
    assert work.function is of_squares and work.do() == 5


def test_a_thread_that_may_wait_does_while_another_must_not():
    results = []
    with at_once():
        thread = threading.Thread(target=lambda: results.append(squared(7)))
        thread.start()
        thread.join()
        assert results == [49] and squared(7) == 49


def test_after_an_exception_within_it_is_waited_for_again():
    with pytest.raises(NotYet), at_once():
        squared(8)
    assert squared(8) == 64


def test_a_work_crosses_to_another_process_and_its_result_back():
    with at_once() as later, pytest.raises(NotYet):
        squared(9)
    sent = pickle.loads(pickle.dumps(later[0]))
    assert sent == later[0] and sent.function is squared
    later[0].keep(81)
    with at_once():
        assert squared(9) == 81
    assert not CALLS


def test_those_asked_for_last_are_kept():
    for x in range(KEPT):
        squared(x)
    squared(0)  # asked for again
    squared(KEPT)
    CALLS.clear()
    assert squared(0) == 0 and not CALLS
    assert squared(1) == 1 and CALLS == [1]


def test_names_of_arguments_are_refused():
    """One result would be kept under two keys."""
    with pytest.raises(TypeError, match="squared"):
        squared(x=2)
