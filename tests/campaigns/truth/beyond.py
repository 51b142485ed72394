"""Controllers in fixed point beyond the run in which their ranges were found: other amplitudes within what inputs are
declared to hold, other frequencies, longer times, live values at their other ends. As shipped they do as in 64-bit
float, or something was said before: a finding about the block, or that a word was cut off.

A controller is a chain of one to three random blocks, some within a loop through a delay."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

import pendel
from pendel.core.catalogue.declare import Link
from pendel.core.catalogue.index import kinds
from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.controllers.numbers.counted import counted_source, read_counts
from pendel.core.controllers.numbers.deck_ranges import Choices
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import Lowered, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import shipped_alone
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive.document import Drive
from pendel.core.errors import PendelError
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.ship import replay
from pendel.core.plant.runtime import load
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.blocks import TICK, TURNING, WORDS, control_kinds, sizes_while
from tests.campaigns.truth.report import Tally

GRID = {"pll_1", "pll_3"}
MACHINE = {"emf_observer", "speed_estimator", "rotor_flux_model"}
"""Estimators are fed with sines that belong together."""
LEFT_OUT = {"noise"}
SMALL, SHORT, LONG = 0.1, 1500, 6000
"""Amplitude in the run in which ranges are found, as a fraction of what inputs are declared to hold; ticks of both
runs."""
STEPS = 16.0
"""Steps of a signal's own word that it may be off whatever its size."""


@dataclass(frozen=True)
class Chain:
    """A controller that is fed from outside, and the drive it is of."""

    drive: Drive
    deck: ControlDeck
    declared: dict[str, Interval]
    live: dict[str, Interval]


def random_chain(seed: int, kind: str = "") -> Chain:
    """A chain of random blocks; of one kind and nothing else where it is named. Raises `PendelError`."""
    rng = np.random.default_rng([seed, *kind.encode()])
    known = [k for k in control_kinds() if k not in LEFT_OUT]
    chosen = [kind] if kind else [str(rng.choice(known)) for _ in range(int(rng.integers(1, 4)))]
    loop = not kind and rng.random() < 0.4
    d = pendel.Drive("Beyond")
    d.set("tick", repr(TICK))
    live: dict[str, Interval] = {}
    for k, name in enumerate(chosen):
        template = kinds()[name]
        d.add(name, f"Block {k}", profile=[("0", "0"), ("1 s", "2"), ("2 s", "-1")] if template.has_profile else ())
        for choice in template.choices:
            if choice.name != template.opens:
                d.choose(f"block_{k}", **{choice.name: str(rng.choice([o for o, _ in choice.options]))})
        for value in template.values:
            if value.unit in ("ms", "s", "Hz") and value.default and value.name != "t_0" and rng.random() < 0.5:
                d.set(
                    f"block_{k}.{value.name}", f"{float(value.default) * 10 ** rng.uniform(-0.3, 0.5):.4g} {value.unit}"
                )
    if loop:
        d.add("delay", "Back")
    deck = prepare(d.document).deck
    by_name = {b.name: b for b in deck.blocks}
    wired, declared = [], dict[str, Interval]()
    for k, name in enumerate(chosen):
        block = by_name[f"block_{k}"]
        sources: dict[str, str | None] = {}
        for n, port in enumerate(p.name for p in kinds()[name].ports if p.link is Link.SIGNAL_IN):
            turning = port in block.turns
            if n == 0 and k and not turning:
                sources[port] = f"block_{k - 1}.{by_name[f'block_{k - 1}'].outputs[0]}"
            elif n == 1 and loop and k == 0 and not turning:
                sources[port] = "back.out"
            else:
                sources[port] = f"outside.{name}_{k}_{port}"
                if not turning:
                    size = 400.0 if name in GRID | MACHINE else float(rng.choice([0.5, 3.0, 40.0]))
                    declared[str(sources[port])] = Interval(-size, size)
        wired.append(replace(block, sources=sources))
    if loop:
        last = wired[-1]
        wired.insert(0, replace(by_name["back"], sources={"x": f"{last.name}.{last.outputs[0]}"}))
    outside = tuple(s for b in wired for s in b.sources.values() if s and s.startswith("outside."))
    live |= live_of(wired, rng)
    return Chain(d.document, replace(deck, blocks=tuple(wired), measured=outside, commands={}), declared, live)


def live_of(blocks: list[BlockInstance], rng: np.random.Generator) -> dict[str, Interval]:
    """One value of a block that may become live, between half and twice of what it is."""
    block = blocks[int(rng.integers(len(blocks)))]
    able = [v for v in block.used_values if v in {x.name for x in kinds()[block.kind].values} and block.values[v] > 0.0]
    if not able or rng.random() < 0.5:
        return {}
    name = str(rng.choice(able))
    return {f"{block.name}.{name}": Interval(0.5 * block.values[name], 2.0 * block.values[name])}


def with_live_at(chain: Chain, end: str) -> ControlDeck:
    """The deck with its live value at an end."""
    deck = chain.deck
    for name, ends in chain.live.items():
        block, _, value = name.partition(".")
        moved = [
            replace(b, values={**b.values, value: ends.high if end == "high" else ends.low}) if b.name == block else b
            for b in deck.blocks
        ]
        deck = replace(deck, blocks=tuple(moved))
    return deck


def fed(chain: Chain, plain: Lowered, share: float, ticks: int, rng: np.random.Generator) -> np.ndarray:
    """Inputs of so much of what they are declared to hold, shape (ticks, inputs)."""
    t = TICK * np.arange(ticks)
    columns = []
    grid = rng.uniform(46.0, 54.0)
    for key in plain.inputs:
        kind, _, port = key.signal.partition(".")[2].rpartition("_")
        kind = kind.rpartition("_")[0]
        size = share * chain.declared.get(key.signal, Interval(-3.0, 3.0)).high
        if kind in GRID | MACHINE and port[-1:] in "uabc":
            late = {"a": 0.0, "b": -2.0943951, "c": 2.0943951}.get(port[-1:], 0.0)
            columns.append(0.8 * size * np.sin(2 * np.pi * grid * t + late))
        elif key.turn or port in TURNING:
            columns.append(rng.uniform(5.0, 300.0) * t)
        else:
            offset = rng.uniform(-0.4, 0.4)
            wave = np.sin(2 * np.pi * rng.uniform(0.2, 30.0) * t + rng.uniform(0, 6))
            columns.append(size * np.clip(offset + 0.59 * np.where(rng.random() < 0.3, np.sign(wave), wave), -1.0, 1.0))
    return np.column_stack(columns) if columns else np.zeros((ticks, 1))


def beyond(seed: int, tally: Tally, kind: str = "") -> None:
    """A controller as shipped against the same in 64-bit float, in a run beyond that in which ranges were found."""
    where = f"beyond_{kind or 'chain'}_{seed}"
    try:
        chain = random_chain(seed, kind)
        plain = lower(chain.deck, Choices(NumberFormat.FLOAT64))
    except PendelError:
        tally.skipped += 1
        return
    rng = np.random.default_rng([seed, 11])
    first = fed(chain, plain, SMALL, SHORT, rng)
    seen = sizes_while(chain.deck, first) | {
        i.signal: float(np.max(np.abs(first[:, k]))) for k, i in enumerate(plain.inputs)
    }
    for number, allowed in WORDS:
        later = with_live_at(chain, str(rng.choice(["low", "high"])))
        inputs = fed(chain, plain, 1.0, LONG, rng)
        try:
            made = lower(later, Choices(number, ranges=chain.declared, live=chain.live), seen)
        except CannotLower:
            tally.skipped += 1  # it was said before
            continue
        inputs = as_words(made, plain, inputs)
        exact = replay(load(shipped_alone(lower(later, Choices(NumberFormat.FLOAT64)))), inputs, len(later.signals))[0]
        gaps = gaps_of(made, exact, inputs, plain, allowed)
        tally.count += 1
        worst = max(gaps, key=gaps.__getitem__, default="")
        if worst and gaps[worst] > 1.0 and said_before(chain, made, inputs, plain):
            tally.skipped += 1
        elif worst and gaps[worst] > 1.0 and steady(later, exact, inputs, plain, allowed):
            tally.failed.append(f"{where} {number.value} {[b.kind for b in later.blocks]} {worst}: {gaps[worst]:.3g}")


def as_words(made: Lowered, plain: Lowered, inputs: np.ndarray) -> np.ndarray:
    """Inputs as the words hold them: what a converter's steps make of a derivative is nobody's fault."""
    reps, held = {i.signal: rep for i, rep in made.inputs.items()}, inputs.copy()
    for k, key in enumerate(plain.inputs):
        rep = reps.get(key.signal)
        if rep is not None and not rep.floating and not rep.angle:
            held[:, k] = np.clip(np.floor(inputs[:, k] / rep.step + 0.5), rep.low, rep.high) * rep.step
    return held


def ordered(made: Lowered, plain: Lowered, inputs: np.ndarray) -> np.ndarray:
    names = [i.signal for i in plain.inputs]
    columns = [names.index(i.signal) for i in made.inputs]
    return np.ascontiguousarray(inputs[:, columns]) if columns else inputs


def gaps_of(made: Lowered, exact: np.ndarray, inputs: np.ndarray, plain: Lowered, allowed: float) -> dict[str, float]:
    """How far each signal is off, over what is allowed: most of the ticks, as those at a level's edge may fall on
    either side of it."""
    given = replay(load(shipped_alone(made)), ordered(made, plain, inputs), exact.shape[1])[0]
    angles = {f"{b.name}.{n}" for b in made.blocks for n in b.tree.angles}
    gaps: dict[str, float] = {}
    for n, signal in enumerate(made.deck.signals):
        gap = given[:, n] - exact[:, n]
        if not np.all(np.isfinite(exact[:, n])):
            continue
        if signal in angles:
            gap = (gap + np.pi) % (2 * np.pi) - np.pi
        largest = float(np.max(np.abs(exact[:, n])))
        off = float(np.sort(np.abs(gap))[-1 - len(gap) // 50])
        gaps[signal] = off / (5.0 * allowed * largest + STEPS * made.rep(signal).step + 1e-12)
    return gaps


def steady(deck: ControlDeck, exact: np.ndarray, inputs: np.ndarray, plain: Lowered, allowed: float) -> bool:
    """Whether the controller itself does nearly the same for nearly the same inputs: an angle that is integrated alone
    and what lies at an edge do not."""
    twin = lower(deck, Choices(NumberFormat.FLOAT32))
    return max(gaps_of(twin, exact, inputs * (1.0 + 1e-6), plain, allowed).values(), default=0.0) < 1.0


def said_before(chain: Chain, made: Lowered, inputs: np.ndarray, plain: Lowered) -> bool:
    """Whether a finding speaks of a block, or the run itself counts what was cut off or lost."""
    if findings_of(chain.drive, made):
        return True
    counted = counted_source(made)
    library = load(counted.text)
    read_counts(library, counted)
    replay(library, ordered(made, plain, inputs), len(made.deck.signals))
    lost, cut = read_counts(library, counted)
    return bool(cut) or any(lost.values())
