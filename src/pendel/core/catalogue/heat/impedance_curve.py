"""The transient thermal impedance of a sheet that is printed as a curve: terms are fitted to points of time and Z.

Resistances and time constants are fitted by their logarithms, so that every fit is passive: in
Σ R_k (1 − exp(−t/τ_k)) all R_k and τ_k are above zero; least squares of the error over Z (curves as of IEC
60747-9; common practice, no source)."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Curve,
    Figure,
    Part,
    Rows,
    Value,
    Values,
)
from pendel.core.catalogue.heat.bodies import LIMIT
from pendel.core.catalogue.heat.transient_impedance import ENDS, FORM, SIGNALS, build, in_nodes
from pendel.core.catalogue.remarks.too_warm import too_warm
from pendel.core.drive.document import Card
from pendel.core.vocabulary import Group

Terms = tuple[tuple[float, float], ...]
TERMS = Choice("terms", "Terms", (("3", "3"), ("2", "2"), ("4", "4"), ("5", "5")))
ROUGH = 0.05
"""Of Z; a fit that errs by more is a finding."""


def points_of(v: Values, card: Card) -> tuple[tuple[float, float], ...]:
    """Times (s) and Z (K/W) of the rows, in the order of time."""
    return tuple(sorted((v[f"t_{n}"], v[f"Z_{n}"]) for n in range(len(card.rows))))


def count_of(card: Card) -> int:
    return int(card.choices.get(TERMS.name, TERMS.default))


def impedance(terms: Terms, t: np.ndarray) -> np.ndarray:
    """Z (K/W) at times (s)."""
    return np.asarray(sum((r * -np.expm1(-t / tau) for r, tau in terms), np.zeros(len(t))))


@lru_cache(maxsize=256)
def fitted(points: tuple[tuple[float, float], ...], count: int) -> tuple[Terms, float]:
    """Terms for the points, by rising time constant, and the largest error over Z."""
    import scipy.optimize  # slow to load, and few drives need it

    t, z = np.array(points).T
    ends = np.log(t[0]), np.log(t[-1] / 2)
    best: tuple[float, np.ndarray] | None = None
    for shrink in (0.0, 0.15, 0.3):  # of the span of time constants to begin with
        room = shrink * (ends[1] - ends[0])
        tau = np.exp(np.linspace(ends[0] + room, ends[1] - room, count))
        shares = scipy.optimize.nnls(-np.expm1(-t[:, None] / tau) / z[:, None], np.ones(len(t)))[0]
        start = np.concatenate([np.log(np.maximum(shares, 1e-3 * z[-1])), np.log(tau)])

        def error(p: np.ndarray) -> np.ndarray:
            r, constants = np.exp(p[:count]), np.exp(p[count:])
            return np.asarray((-np.expm1(-t[:, None] / constants)) @ r / z - 1.0)

        low = np.concatenate([np.full(count, np.log(1e-6 * z[-1])), np.full(count, np.log(t[0] / 30))])
        high = np.concatenate([np.full(count, np.log(3 * z[-1])), np.full(count, np.log(30 * t[-1]))])
        found = scipy.optimize.least_squares(error, np.clip(start, low, high), bounds=(low, high), max_nfev=400)
        if best is None or found.cost < best[0]:
            best = float(found.cost), found.x
    assert best is not None
    r, tau = np.exp(best[1][:count]), np.exp(best[1][count:])
    order = np.argsort(tau)
    terms = tuple((float(r[k]), float(tau[k])) for k in order)
    return terms, float(np.max(np.abs(impedance(terms, t) / z - 1.0)))


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    points, count = points_of(v, card), count_of(card)
    if len(points) < 2 * count:
        sentence = (
            f"{len(points)} points do not tell {count} terms, of two numbers each. Enter {2 * count} points of the "
            "curve or more, or choose fewer terms."
        )
        return [Contradiction(sentence, "rows:0")]
    for (t_1, z_1), (t_2, z_2) in zip(points, points[1:]):
        if not (t_2 > t_1 and z_2 >= z_1):
            where = next(n for n in range(len(card.rows)) if (v[f"t_{n}"], v[f"Z_{n}"]) == (t_2, z_2))
            sentence = (
                f"its curve falls or stands twice at {t_2:.4g} s ({z_1:.4g} K/W, then {z_2:.4g} K/W). A junction that "
                "is heated gets warmer all the time: correct the point, or its unit."
            )
            return [Contradiction(sentence, f"rows:{where}")]
    terms, worst = fitted(points, count)
    if worst > ROUGH:
        sentence = (
            f"{count} terms miss the curve by up to {100 * worst:.2g} %. Choose more terms, or look for a point that "
            "is off."
        )
        return [Contradiction(sentence, "rows:0", fault=False)]
    return []


def circuit(v: Values, card: Card) -> dict[str, float]:
    points, count = points_of(v, card), count_of(card)
    terms = list(fitted(points, count)[0]) if len(points) >= 2 * count else []
    return in_nodes(dict(v), terms, count, card.choices.get(FORM.name, FORM.default))


def follows(v: Values, card: Card) -> list[Figure]:
    if any(c.fault for c in contradictions(v, card)):
        return []
    terms, worst = fitted(points_of(v, card), count_of(card))
    figures = [Figure("Largest error of the fit", "", worst, "%")]
    for n, (r, tau) in enumerate(terms, 1):
        figures += [Figure(f"Term {n}", f"R_{n}", r, "K/W"), Figure("its time constant", f"τ_{n}", tau, "s")]
    return figures


def curve(v: Values, card: Card) -> Curve | None:
    """The fitted impedance."""
    if any(c.fault for c in contradictions(v, card)):
        return None
    points = points_of(v, card)
    t = np.linspace(0.0, points[-1][0], 200)
    return Curve("Z, fitted", "time", "s", "K/W", t, impedance(fitted(points, count_of(card))[0], t))


KIND = Part(
    id="impedance_curve",
    title="Transient heat impedance by its curve",
    sentence="From junction to case by points of the curve that a sheet prints: terms are fitted to them.",
    group=Group.HEAT,
    keywords="thermal z_th zth fit table points junction case transistor diode module pulse",
    ports=ENDS,
    choices=(TERMS, FORM),
    values=(Value("T_0", "At the start", "°C", "20", low=-273.15), LIMIT),
    rows=Rows(
        "Points",
        (
            Value("t", "Time", "s", "1 ms", low=0.0, open_low=True),
            Value("Z", "Impedance", "K/W", "0.01", low=0.0, open_low=True),
        ),
        ("1 ms", "0.01"),
        (
            ("0.1 ms", "0.0021"),
            ("1 ms", "0.0166"),
            ("5 ms", "0.0426"),
            ("20 ms", "0.0887"),
            ("0.1 s", "0.1627"),
            ("0.5 s", "0.1993"),
        ),
    ),
    signals=SIGNALS,
    build=build,
    equation_values=circuit,
    contradictions=contradictions,
    follows=follows,
    curve=curve,
    summary=lambda v, card: ("Z_th", f"{len(card.rows)} points"),
    main_signal="temperature",
    spine="Z",
    remarks=(too_warm("temperature", LIMIT.name),),
)
