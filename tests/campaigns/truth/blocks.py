"""Every block's shipped C in 32-bit float against the same in 64-bit: random values, random inputs, and many hours of
ticks."""

from __future__ import annotations

import ctypes
from dataclasses import replace

import numpy as np

import pendel
from pendel.core.catalogue.declare import Block, Deck, Link
from pendel.core.catalogue.index import kinds
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.observed import observed_source
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import shipped_alone
from pendel.core.errors import PendelError
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.ship import replay
from pendel.core.plant.compiler import UNIT
from pendel.core.plant.runtime import load, pointer
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.report import Tally

LONG_RUN = """#include <math.h>
#include <string.h>
void pd_ctl_tick(void *c, const double *in, double *signals, double *out);
/* Inputs are a mean, a drift and a sine each; the signals of the last ticks are kept. */
void pd_long(void *c, long n, double dt, int n_in, const double *shape, int n_signal, long keep, double *signals,
    double *rows)
{
    double in[64], out[64];
    long k;
    int i;
    for (k = 0; k < n; k++) {
        for (i = 0; i < n_in; i++) {
            const double *s = shape + 5 * i;
            in[i] = s[0] + s[1] * (double)k * dt + s[2] * sin(6.283185307179586 * fmod(s[3] * (double)k * dt,
                1.0) + s[4]);
        }
        pd_ctl_tick(c, in, signals, out);
        if (k >= n - keep) memcpy(rows + (k - n + keep) * n_signal, signals, sizeof(double) * (size_t)n_signal);
    }
}
"""
HOURS = 10.0
TICK = 1e-3
"""s: ten hours are 36 million ticks of it, twice what a count in 32-bit float could hold."""
KEPT = 2000
ALLOWED = 2e-3
"""Of a signal's largest value."""
TURNING = ("angle", "position", "theta", "ahead")
FEEDBACK_FREE = {
    "emf_observer",
    "speed_estimator",
    "rotor_flux_model",
    "pll_1",
    "pll_3",
    "hall_decoder",
    "six_step",
    "own_modes",
}
"""Estimators need inputs that belong together; they are looked at in their own tests."""


def control_kinds() -> list[str]:
    return [
        k
        for k, kind in kinds().items()
        if isinstance(kind, Block)
        and kind.deck is Deck.CONTROL
        and kind.group != "own"
        and not kind.takes_flux
        and k not in FEEDBACK_FREE
    ]


def deck_of(kind: str, seed: int, tick: float) -> ControlDeck:
    """A deck of one block, fed from outside, with some values drawn about their defaults."""
    return alone(kind, seed, tick)[1]


def alone(kind: str, seed: int, tick: float) -> tuple[pendel.Drive, ControlDeck]:
    """The drive, and the deck of it."""
    rng = np.random.default_rng([seed, *kind.encode()])
    d = pendel.Drive("Long")
    d.set("tick", repr(tick))
    template = kinds()[kind]
    profile = (
        [("0", "0"), ("100 s", "2"), ("1 h", "-1"), ("9 h", "1.5"), ("10.5 h", "0.5")] if template.has_profile else ()
    )
    d.add(kind, "Block", profile=profile)
    drawn = {}
    for value in template.values:
        if value.unit in ("ms", "s", "Hz") and value.name != "t_0" and value.default and rng.random() < 0.7:
            drawn[value.name] = f"{float(value.default) * 10 ** rng.uniform(-0.3, 0.5):.4g} {value.unit}"
    if "t_0" in {v.name for v in template.values}:
        drawn["t_0"] = f"{rng.uniform(0.2, 0.9999) * HOURS * 3600:.4f} s"
    if kind in ("ramp", "travel_plan"):
        drawn["t_0"] = f"{HOURS * 3600 - 0.5:.4f} s"  # still under way at the end
    for name, text in drawn.items():
        d.set(f"block.{name}", text)
    for choice in template.choices:  # of a regulator that is open nothing is left to look at
        if choice.name != template.opens:
            d.choose("block", **{choice.name: str(rng.choice([o for o, _ in choice.options]))})
    deck = prepare(d.document).deck
    (block,) = deck.blocks
    sources = {p.name: f"outside.{p.name}" for p in template.ports if p.link is Link.SIGNAL_IN}
    return d, replace(deck, blocks=(replace(block, sources=sources),), measured=tuple(sources.values()), commands={})


def shapes(kind: str, deck: ControlDeck, seed: int, drift: bool) -> np.ndarray:
    """Mean, drift, amplitude, frequency and phase of each input."""
    rng = np.random.default_rng([seed, 7, *kind.encode()])
    rows = []
    for entry in lower(deck, Choices(NumberFormat.FLOAT32)).inputs:
        turning = entry.signal.rpartition(".")[2] in TURNING
        rows.append(
            [
                rng.uniform(-0.2, 0.2),
                rng.uniform(100, 300) if turning and drift else 0.0,
                rng.uniform(0.2, 0.9),
                rng.uniform(0.5, 20),
                rng.uniform(0, 6),
            ]
        )
    return np.array(rows or [[0.0] * 5])


def last_signals(deck: ControlDeck, number: NumberFormat, shape: np.ndarray, ticks: int) -> np.ndarray:
    """Signals of the last `KEPT` ticks, shape (KEPT, signals)."""
    made = lower(deck, Choices(number))
    library = load(shipped_alone(made) + UNIT + LONG_RUN)
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    values = np.zeros(1)
    library.pd_ctl_init.argtypes = [ctypes.c_void_p, ctypes.c_void_p]
    library.pd_ctl_init(ctypes.addressof(memory), pointer(values))
    n = len(deck.signals)
    signals, rows = np.zeros(max(1, n)), np.zeros((KEPT, n))
    library.pd_long.argtypes = [
        ctypes.c_void_p,
        ctypes.c_long,
        ctypes.c_double,
        ctypes.c_int,
        ctypes.c_void_p,
        ctypes.c_int,
        ctypes.c_long,
        ctypes.c_void_p,
        ctypes.c_void_p,
    ]
    library.pd_long.restype = None
    inputs = len(made.inputs)
    library.pd_long(
        ctypes.addressof(memory),
        ticks,
        deck.tick,
        inputs,
        pointer(shape),
        n,
        KEPT,
        pointer(signals),
        pointer(rows),
    )
    return rows


def over_time(kind: str, seed: int, hours: float, tally: Tally, tick: float = TICK) -> None:
    """The last two thousand ticks after so many hours, in both formats."""
    where = f"block_{kind}_{seed} {hours:g} h"
    try:
        deck = deck_of(kind, seed, tick)
    except PendelError as problem:
        tally.skipped += 1
        tally.failed.append(f"{where}: {problem}")
        return
    shape = np.ascontiguousarray(shapes(kind, deck, seed, hours > 0.1))
    ticks = max(KEPT, round(hours * 3600 / tick))
    single, double = (
        last_signals(deck, number, shape, ticks) for number in (NumberFormat.FLOAT32, NumberFormat.FLOAT64)
    )
    if not np.all(np.isfinite(double)):  # values at random may make what grows without end
        tally.skipped += 1
        return
    for n, signal in enumerate(deck.signals):
        gap = single[:, n] - double[:, n]
        if signal.rpartition(".")[2] in TURNING:
            gap = (gap + np.pi) % (2 * np.pi) - np.pi
        size = max(float(np.max(np.abs(double[:, n]))), 1e-3)
        # One tick at a level's edge may fall on either side of it.
        worst = float(np.sort(np.abs(gap))[-1 - KEPT // 200]) / size
        tally.note(worst / ALLOWED, f"{where} {signal.rpartition('.')[2]}")


WORDS = ((NumberFormat.FIXED16, 0.01), (NumberFormat.FIXED32, 2e-4))
"""Formats in fixed point, and how much of a signal's largest value they may be off."""
FROM_ANGLES = 10.0
"""How much more a speed may be off that is the change of an angle in a tick: it has steps of 2π/2^16 over a tick."""


def in_words(kind: str, seed: int, tally: Tally, ticks: int = 4000) -> None:
    """A block in fixed point against the same in 64-bit float, with ranges from that run: random values and inputs.
    A signal of which findings say that its words have few steps is not looked at."""
    try:
        drive, deck = alone(kind, seed, TICK)
        plain = lower(deck, Choices(NumberFormat.FLOAT64))
    except PendelError as problem:
        tally.skipped += 1
        tally.failed.append(f"block_{kind}_{seed}: {problem}")
        return
    mean, drift, size, frequency, phase = shapes(kind, deck, seed, drift=False).T[:, : len(plain.inputs)]
    if seed % 2 == 0 and not kinds()[kind].opens:  # a regulator at its end decides by the last digit
        rng = np.random.default_rng([seed, 9, *kind.encode()])
        larger = [1.0 if i.signal.rpartition(".")[2] in TURNING else 10 ** rng.uniform(0, 2.5) for i in plain.inputs]
        mean, size = mean * larger, size * larger
    t = TICK * np.arange(ticks)[:, None]
    inputs = (
        mean + drift * t + size * np.sin(2 * np.pi * frequency * t + phase) if plain.inputs else np.zeros((ticks, 1))
    )
    exact = replay(load(shipped_alone(plain)), inputs, len(deck.signals))[0]
    seen = sizes_while(deck, inputs) | {
        i.signal: float(np.max(np.abs(inputs[:, k]))) for k, i in enumerate(plain.inputs)
    }
    for number, allowed in WORDS:
        where = f"block_{kind}_{seed} {number.value}"
        try:
            made = lower(deck, Choices(number), seen)
        except PendelError as problem:
            tally.note(0.0 if "float" in str(problem) else 2.0, f"{where}: {problem}")
            continue
        names = [i.signal for i in plain.inputs]
        columns = [names.index(i.signal) for i in made.inputs]
        given = replay(load(shipped_alone(made)), inputs[:, columns] if columns else inputs, len(deck.signals))[0]
        angles = {f"{b.name}.{n}" for b in made.blocks for n in b.tree.angles}
        said = [f.sentence for f in findings_of(drive.document, made)]
        for n, signal in enumerate(deck.signals):
            if any(sentence.startswith(f"Block: {signal.rpartition('.')[2]} ") for sentence in said):
                continue
            gap = given[:, n] - exact[:, n]
            if signal in angles:
                gap = (gap + np.pi) % (2 * np.pi) - np.pi
            largest = max(float(np.max(np.abs(exact[:, n]))), 1e-3)
            # Ticks at a level's edge may fall on either side of it, and a word is a step off.
            off = float(np.sort(np.abs(gap))[-1 - ticks // 100])
            worst = max(0.0, off - made.blocks[0].reps[signal.rpartition(".")[2]].step) / largest
            more = FROM_ANGLES if kind == "electrical_angle" and number is NumberFormat.FIXED16 else 1.0
            tally.note(worst / (more * allowed), f"{where} {signal.rpartition('.')[2]}")


def sizes_while(deck: ControlDeck, inputs: np.ndarray) -> dict[str, float]:
    """Largest absolute values of what a deck computes for given inputs."""
    observed = observed_source(deck)
    library = load(observed.text)
    replay(library, inputs, len(deck.signals))
    sizes = np.zeros(max(1, len(observed.names)))
    library.pd_ctl_seen.argtypes = [ctypes.c_void_p]
    library.pd_ctl_seen(pointer(sizes))
    return {name: float(size) for name, size in zip(observed.names, sizes) if np.isfinite(size)}
