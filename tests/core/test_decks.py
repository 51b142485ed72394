"""Random decks of blocks at rates and phases of their own, against a plain reading of the rules, tick by tick.

Every ``every`` ticks, at its phase, a block reads what its sources hold, those of this tick
where they come before it; a memory gives what it has and takes in at the end of the tick; between, outputs are held."""

import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import pendel
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.drive import commands
from pendel.core.firmware.ship import compare
from pendel.core.runs.preparing.simulate import prepare

TICK, TICKS = 1e-3, 60
MEMORIES = ("delay", "integrator")
ONE_INPUT = ("gain", "pt1", "limiter", *MEMORIES)


@st.composite
def decks(draw):
    """Blocks as (kind, sources, every, phase, number); a source is the place of a block, or -1 for what feeds them all.
    Only memories feed a block that stands before them."""
    count = draw(st.integers(2, 9))
    kinds = [draw(st.sampled_from((*ONE_INPUT, "sum"))) for _ in range(count)]
    blocks = []
    for place, kind in enumerate(kinds):
        sources = [-1, *range(place), *(k for k in range(place, count) if kinds[k] in MEMORIES)]
        every = draw(st.sampled_from((1, 1, 2, 3, 5)))
        blocks.append(
            (
                kind,
                [draw(st.sampled_from(sources)) for _ in range(2 if kind == "sum" else 1)],
                every,
                draw(st.integers(0, every - 1)),
                draw(st.sampled_from((0.3, -0.7, 1.5))),
            )
        )
    return blocks, draw(st.permutations(range(count))), draw(st.integers(0, 99))


def fed(seed):
    return np.round(np.random.default_rng(seed).uniform(-1, 1, TICKS + 1), 3)


def values_of(kind, number):
    return {
        "gain": {"K": f"{number}"},
        "pt1": {"K": "1", "T": "7 ms"},
        "limiter": {"low": "-0.4", "high": "0.5"},
        "delay": {"ticks": "2"},
        "integrator": {"K_i": f"{20 * abs(number)}", "low": "-3", "high": "3", "start": "0.25"},
        "sum": {},
    }[kind]


def drawn(blocks, order, seed):
    """The deck as a drive, its cards drawn in any order."""
    d = pendel.Drive("Deck")
    d.set("tick", f"{TICK} s")
    d.add("profile", "Feed", profile=[(repr(k * TICK), repr(float(y))) for k, y in enumerate(fed(seed))])
    for place in order:
        kind, _, every, phase, number = blocks[place]
        key = d.add(kind, f"B{place}", every=str(every), **values_of(kind, number))
        if phase:
            d.do(commands.set_phase(d.document, key, str(phase)))
    for place, (kind, sources, *_) in enumerate(blocks):
        for port, source in zip(("a", "b") if kind == "sum" else ("x",), sources):
            d.connect("feed.out" if source < 0 else f"b{source}.out", f"b{place}.{port}")
    return d


def reckoned(blocks, seed):
    """Outputs by the rules, shape (ticks, blocks)."""
    x = fed(seed)
    held = np.zeros(len(blocks))
    memory = [[0.0, 0.0] if kind == "delay" else 0.25 if kind == "integrator" else 0.0 for kind, *_ in blocks]
    outputs = []
    for k in range(TICKS + 1):
        due = [(k - phase) % every == 0 for _, _, every, phase, _ in blocks]
        for place, (kind, *_) in enumerate(blocks):  # memories give
            if due[place] and kind in MEMORIES:
                held[place] = memory[place][0] if kind == "delay" else memory[place]
        for place, (kind, sources, every, _, number) in enumerate(blocks):
            read = [x[k] if s < 0 else held[s] for s in sources]
            if not due[place] or kind in MEMORIES:
                continue
            if kind == "gain":
                held[place] = number * read[0]
            elif kind == "sum":
                held[place] = read[0] + read[1]
            elif kind == "limiter":
                held[place] = min(max(read[0], -0.4), 0.5)
            else:
                share = 1 - math.exp(-every * TICK / 0.007)
                memory[place] += share * (read[0] - memory[place])
                held[place] = memory[place]
        for place, (kind, sources, every, _, number) in enumerate(blocks):  # memories take in
            if due[place] and kind in MEMORIES:
                read = x[k] if sources[0] < 0 else held[sources[0]]
                if kind == "delay":
                    memory[place] = [*memory[place][1:], read]
                else:
                    grown = memory[place] + 20 * abs(number) * every * TICK * read
                    memory[place] = min(max(grown, -3.0), 3.0)
        outputs.append(held.copy())
    return np.array(outputs)


@settings(max_examples=25, deadline=None)
@given(decks())
def test_a_deck_runs_as_its_rules_say_whatever_the_rates_and_the_order_of_its_cards(deck):
    blocks, order, seed = deck
    d = drawn(blocks, order, seed)
    run = d.run(TICKS * TICK)
    wanted = reckoned(blocks, seed)
    for place, (kind, *_) in enumerate(blocks):
        got = run[f"b{place}.out"].y
        np.testing.assert_allclose(got, wanted[: len(got), place], atol=1e-9, err_msg=f"b{place}, {kind}: {blocks}")
    shipped = lower(prepare(d.document).deck, Choices(NumberFormat.FLOAT64))
    for compared in compare(shipped, run.kept):
        np.testing.assert_allclose(compared.shipped, run[compared.signal].y, atol=1e-12, err_msg=compared.signal)
