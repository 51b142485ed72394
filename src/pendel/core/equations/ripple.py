"""The ripple of currents behind averaged legs, from the equations themselves.

An averaged leg knows its duty, link and period, but not what it feeds. How fast its current answers to its
pole's voltage, and to those of the other legs of its converter, is a derivative of the ordered equations;
with it the ripple at the edges of the pulses follows, and from that what dead time does to the mean voltage
and what a switching costs."""

from __future__ import annotations

from dataclasses import replace

import casadi as ca

from pendel.core.equations.context import Network, PulsedMean, stacked
from pendel.core.equations.reduce import Explicit


def with_ripples(network: Network, system: Explicit) -> Explicit:
    """The system with the ripple of every averaged leg among its solutions, and without the nudges by which
    it was found."""
    legs = network.pulsed_means
    if not legs:
        return system
    helpers = [s for leg in legs for s in (leg.nudge, leg.ripple)]
    silent = (stacked(*helpers), ca.densify(ca.SX.zeros(len(helpers))))
    x = stacked(*(e.symbol for e in system.states))
    replaced = {leg.ripple.name(): ca.densify(ripple_of(leg, legs, system, x, silent)) for leg in legs}
    replaced |= {leg.nudge.name(): ca.densify(ca.SX(0)) for leg in legs}
    symbols = {s.name(): s for s in helpers}
    before, after = (ca.densify(stacked(*each)) for each in (symbols.values(), (replaced[name] for name in symbols)))

    def settled(expressions: list[ca.SX]) -> list[ca.SX]:
        return [ca.densify(e) for e in ca.substitute(expressions, [before], [after])] if expressions else []

    (rhs,) = settled([system.rhs])
    return replace(
        system,
        solved=dict(zip(system.solved, settled(list(system.solved.values())))) | replaced,
        symbols={**system.symbols, **symbols},
        residuals=settled(system.residuals),
        rhs=rhs,
    )


def ripple_of(
    leg: PulsedMean, legs: list[PulsedMean], system: Explicit, x: ca.SX, silent: tuple[ca.SX, ca.SX]
) -> ca.SX:
    """Half the ripple's height (A) where the leg's own pulse ends; as far below the mean where it begins.

    With carriers in phase a pulse of duty d about the valley has, at the edge of one of duty d', driven a
    current by ½·min(d, d')·(1 − max(d, d'))·U/(L·f) above its mean. Zero where no inductance holds the
    current."""
    load = system.express(leg.load)
    slope = ca.jacobian(load, x) @ system.rhs
    own = system.express(leg.duty)
    total = ca.SX(0)
    for other in legs:
        if other.card != leg.card:
            continue
        answer = ca.substitute(ca.jacobian(slope, other.nudge), *silent)
        duty = own if other.opposed else system.express(other.duty)
        driven = 0.5 * ca.fmin(own, duty) * (1 - ca.fmax(own, duty))
        total += (-1 if other.opposed and other is not leg else 1) * answer * driven
    return ca.substitute(ca.fmax(0, total) * ca.fabs(system.express(leg.link)) / leg.frequency, *silent)
