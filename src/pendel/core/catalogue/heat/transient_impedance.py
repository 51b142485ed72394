"""The transient thermal impedance of a sheet, Z(t) = Σ R_k (1 − exp(−t/τ_k)), as a chain.

The terms of a sheet are those of a Foster chain, whose inner temperatures mean nothing and which hands its heat on at
once. The Cauer chain of the same impedance has a capacity at each node to what is around, so that what is wired behind
it is warmed when the heat arrives; it follows by a continued fraction in rational numbers (Guillemin: Synthesis of
Passive Networks, chapter 4; curves as of IEC 60747-9; both from memory)."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import casadi as ca

from pendel.core.catalogue.declare import Choice, Contradiction, Link, Part, Port, Rows, Signal, Value, Values
from pendel.core.catalogue.heat.bodies import LIMIT
from pendel.core.catalogue.remarks.too_warm import too_warm
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Group, SignalRole

FORM = Choice(
    "form", "Chain", (("cauer", "Cauer, for what is wired behind"), ("foster", "Foster, as the sheet's terms"))
)


def terms_of(v: Values, count: int) -> list[tuple[float, float]]:
    """R_k (K/W) and τ_k (s) of the rows."""
    return [(v[f"R_{n}"], v[f"tau_{n}"]) for n in range(count)]


def cauer(terms: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Resistances (K/W) and capacities (J/K) of the chain with the impedance Σ R_k/(1 + s τ_k), from the input on.
    Terms of one τ are one term."""
    merged: dict[float, Fraction] = {}
    for r, tau in terms:
        merged[tau] = merged.get(tau, Fraction(0)) + Fraction(r)
    above, below = [Fraction(0)], [Fraction(1)]
    for tau, share in merged.items():
        term = [Fraction(1), Fraction(tau)]
        above = _trimmed(_sum(_product(above, term), [share * b for b in below]))
        below = _product(below, term)
    chain = []
    while any(above):
        # The admittance is below/above, of which s·C comes off; what is left is turned round, and R comes off.
        capacity = below[-1] / above[-1]
        rest = _trimmed(_sum(below, [-capacity * a for a in [Fraction(0), *above]]))
        resistance = above[-1] / rest[-1]
        chain.append((float(resistance), float(capacity)))
        above, below = _trimmed(_sum(above, [-resistance * b for b in rest])), rest
    return chain


def _product(a: Sequence[Fraction], b: Sequence[Fraction]) -> list[Fraction]:
    """Of polynomials, lowest power first."""
    whole = [Fraction(0)] * (len(a) + len(b) - 1)
    for i, x in enumerate(a):
        for j, y in enumerate(b):
            whole[i + j] += x * y
    return whole


def _sum(a: Sequence[Fraction], b: Sequence[Fraction]) -> list[Fraction]:
    size = max(len(a), len(b))
    return [(a[k] if k < len(a) else Fraction(0)) + (b[k] if k < len(b) else Fraction(0)) for k in range(size)]


def _trimmed(a: Sequence[Fraction]) -> list[Fraction]:
    whole = list(a)
    while len(whole) > 1 and not whole[-1]:
        whole.pop()
    return whole


def circuit(v: Values, card: Card) -> dict[str, float]:
    count = len(card.rows)
    return in_nodes(dict(v), terms_of(v, count), count, card.choices.get(FORM.name, FORM.default))


def in_nodes(v: dict[str, float], terms: list[tuple[float, float]], count: int, form: str) -> dict[str, float]:
    """The values with resistances ``r_n`` and capacities ``c_n`` of the nodes, in either form; of terms with one τ,
    all in the first, and nearly nothing in the others."""
    nodes = cauer(terms) if form == "cauer" else []
    if not nodes:
        nodes = [(r, tau / r) for r, tau in terms]
    if not nodes:
        return v | {f"{letter}_{n}": 1.0 for letter in "rc" for n in range(count)}
    nodes += [(nodes[-1][0] * VANISHING, nodes[-1][1] * VANISHING)] * (count - len(nodes))
    return {**v, **{f"r_{n}": r for n, (r, _) in enumerate(nodes)}, **{f"c_{n}": c for n, (_, c) in enumerate(nodes)}}


VANISHING = 1e-6


def build(c: PartContext) -> None:
    junction, case = c.line("a"), c.line("b")
    flow, rises = junction.through, []
    behind: ca.SX = flow
    count = int(c.choice("terms")) if c.has_choice("terms") else c.rows
    for n in range(count):
        rise, slope = c.state(f"rise_{n}")
        r, capacity = c.value(f"r_{n}"), c.value(f"c_{n}")
        if c.choice("form") == "foster":
            c.equation(capacity * slope - (flow - rise / r))
        rises.append((rise, slope, r, capacity))
    if c.choice("form") == "foster":
        difference = sum((rise for rise, *_ in rises), ca.SX(0))
    else:
        # A node is as much above the start of the case as its state says; the last resistance ends at the case.
        start = c.value("T_0")
        for n, (rise, slope, r, capacity) in enumerate(rises):
            following = rises[n + 1][0] + start if n + 1 < len(rises) else case.across
            onwards = (rise + start - following) / r
            c.equation(capacity * slope - (behind - onwards))
            behind = onwards
        difference = (rises[0][0] + start if rises else case.across) - case.across
    c.equation(junction.across - case.across - difference)
    c.equation(case.through + (flow if c.choice("form") == "foster" else behind))
    c.signal("temperature", junction.across)
    c.signal("difference", junction.across - case.across)
    c.signal("heat", flow)


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if not card.rows:
        return [
            Contradiction("It has no terms. Add those of the sheet, each a resistance and a time constant.", "rows:0")
        ]
    return []


ENDS = (Port("a", Link.HEAT, "Junction", "left"), Port("b", Link.HEAT, "Case", "right"))
SIGNALS = (
    Signal("temperature", "junction temperature", "°C", role=SignalRole.TEMPERATURE),
    Signal("difference", "junction above case", "K"),
    Signal("heat", "heat flow", "W"),
)
KIND = Part(
    id="transient_impedance",
    title="Transient heat impedance",
    sentence="From junction to case as a sheet gives it: terms of a resistance and a time constant each.",
    group=Group.HEAT,
    keywords="thermal z_th zth foster cauer junction case transistor diode module pulse",
    ports=ENDS,
    choices=(FORM,),
    values=(Value("T_0", "At the start", "°C", "20", low=-273.15), LIMIT),
    value_names_in_force=lambda card: (
        {LIMIT.name} | ({"T_0"} if card.choices.get("form", "cauer") == "cauer" else set())
    ),
    rows=Rows(
        "Terms",
        (
            Value("R", "Resistance", "K/W", "0.1", low=0.0, open_low=True),
            Value("tau", "Time constant", "s", "0.01", low=0.0, open_low=True),
        ),
        ("0.1", "10 ms"),
        (("0.02", "1 ms"), ("0.08", "20 ms"), ("0.1", "100 ms")),
    ),
    signals=SIGNALS,
    build=build,
    equation_values=circuit,
    contradictions=contradictions,
    summary=lambda v, card: ("Z_th", f"{len(card.rows)} terms"),
    main_signal="temperature",
    spine="Z",
    remarks=(too_warm("temperature", LIMIT.name),),
)
