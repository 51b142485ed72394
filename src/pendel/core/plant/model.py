"""A drive's equations as compiled code with run-time values: the plant of a run."""

from __future__ import annotations

from functools import cached_property

import casadi as ca
import numpy as np

from pendel.core.equations.context import Network, stacked
from pendel.core.equations.friction import with_friction_laws
from pendel.core.equations.reduce import Explicit, reduce
from pendel.core.equations.ripple import with_ripples
from pendel.core.plant.affine import moving_part, without_states
from pendel.core.plant.emit import Emitter
from pendel.core.plant.program import BALANCE, FLOWS, PulseShape, Structure


class PlantModel:
    """The explicit system of a network and its functions, in symbols and in C.

    Parameters
    ----------
    stated
        what the parts state; it is left as it is.
    measured
        keys of signals the controller reads, in its order.
    """

    def __init__(self, stated: Network, measured: tuple[str, ...], *, with_energy: bool = False):
        self.measured, self.with_energy = measured, with_energy
        self.network = with_friction_laws(stated)
        """With the equations and modes of dry friction."""

    @cached_property
    def system(self) -> Explicit:
        """The slow part: ordered and solved."""
        return with_ripples(self.network, reduce(self.network))

    @cached_property
    def symbols(self) -> dict[str, ca.SX]:
        n = self.network
        inputs = [*n.inputs.values(), *(p.offset for p in n.profiles), *(p.slope for p in n.profiles)]
        return {
            "t": n.time,
            "x": stacked(*(e.symbol for e in self.system.states), *self.energy_symbols),
            "u": stacked(*inputs),
            "s": stacked(*(m.symbol for m in n.modes), *n.gates.values()),
            "p": stacked(*(s for s, _ in n.parameters.values())),
            "z": stacked(*self.system.torn),
            "f": stacked(*(s.outputs for s in n.surfaces)),
        }

    @cached_property
    def energy_symbols(self) -> list[ca.SX]:
        if not self.with_energy:
            return []
        return [ca.SX.sym(f"{kind}:{card}") for kind in FLOWS for card in getattr(self.network, kind)]

    @cached_property
    def rhs(self) -> ca.SX:
        energy = (
            self.system.express_all([e for kind in FLOWS for e in getattr(self.network, kind).values()])
            if self.with_energy
            else []
        )
        return stacked(self.system.rhs, *energy)

    @cached_property
    def guards(self) -> list[tuple[int, int, int, ca.SX]]:
        return [
            (k, a, b, self.system.express(guard))
            for k, mode in enumerate(self.network.modes)
            for a, guard, b in mode.transitions
        ]

    @cached_property
    def signals(self) -> dict[str, ca.SX]:
        stated = dict(self.network.signals)
        for kind in BALANCE:
            stated |= {f"{kind}:{card}": e for card, e in getattr(self.network, kind).items()}
        signals = dict(zip(stated, self.system.express_all(list(stated.values()))))
        if self.with_energy:
            signals |= {f"energy.{s.name()}": s for s in self.energy_symbols}
            signals["energy.stored"] = sum(self.system.express_all(list(self.network.stored.values())), ca.SX(0))
        return signals

    def derivative(self, f: ca.SX, by: ca.SX) -> ca.SX:
        """Total derivative: what is found numerically moves along, by the implicit function theorem."""
        direct = ca.jacobian(f, by)
        for surface in self.network.surfaces:
            low = surface.outputs[:6]
            if ca.depends_on(f, low):
                places = stacked(*(self.system.express(a) for a in surface.at))
                direct += ca.jacobian(f, low) @ surface.slopes() @ ca.jacobian(places, by)
        z = self.symbols["z"]
        if not self.system.torn or not ca.depends_on(f, z):
            return direct
        residuals = stacked(*self.system.residuals)
        moves = -ca.solve(ca.densify(ca.jacobian(residuals, z)), ca.densify(ca.jacobian(residuals, by)))
        return direct + ca.jacobian(f, z) @ moves

    @cached_property
    def structure(self) -> Structure:
        n, symbols = self.network, self.symbols
        emitter = Emitter(symbols)
        x = symbols["x"]
        if n.surfaces:
            places = stacked(*(self.system.express(a) for s in n.surfaces for a in s.at))
            emitter.surfaces(n.surfaces, places, len(n.parameters))
        if self.system.torn:
            emitter.loops(stacked(*self.system.residuals))
        emitter.function("pd_rhs", [("dx", self.rhs)])
        if self.guards:
            emitter.function("pd_guarded", [("dx", self.rhs), ("g", stacked(*(g for *_, g in self.guards)))])
        else:
            emitter.same("pd_guarded", "pd_rhs", ("dx",), ("g",))
        emitter.function("pd_measure", [("y", stacked(*(self.signals[k] for k in self.measured)))])
        emitter.function("pd_signals", [("y", stacked(*self.signals.values()))])
        moving = stacked(n.time, x, symbols["u"], symbols["z"], symbols["f"])
        steady = not ca.depends_on(ca.jacobian(self.rhs, x), moving)
        slopes = self.derivative(self.rhs, x)
        emitter.function("pd_jac", [("jac", slopes), ("dfdt", self.derivative(self.rhs, n.time))], empty={"jac"})
        jacobian, elimination = few_entries(slopes)
        holds = [
            (k, self.system.express(m.zero_on_entry)) for k, m in enumerate(n.modes) if m.zero_on_entry is not None
        ]
        held = stacked(*(e for _, e in holds))
        emitter.function("pd_hold", [("w", held), ("grad", self.derivative(held, x) if holds else ca.SX())])
        demoted = stacked(*(self.system.solved[e.key] for e in self.system.demoted))
        emitter.function(
            "pd_demoted",
            [("y", demoted), ("jac", self.derivative(demoted, x) if demoted.numel() else ca.SX())],
        )
        forced = self.emit_affine(emitter)
        if n.switched:
            devices = [e for d in n.switched for e in (d.u, d.i, d.on, d.off)]
            emitter.function("pd_switched", [("y", stacked(*self.system.express_all(devices)))])
        modes = (*(m.key for m in n.modes), *n.gates)
        states = (*(e.key for e in self.system.states), *(s.name() for s in self.energy_symbols))
        return Structure(
            state_keys=states,
            commands=tuple(n.inputs),
            profile_keys=tuple(p.key for p in n.profiles),
            mode_keys=modes,
            parameter_keys=tuple(n.parameters),
            surfaces=tuple((s.key, s.count) for s in n.surfaces),
            signals=tuple(self.signals),
            measured=self.measured,
            transitions=tuple((k, a, b) for k, a, b, _ in self.guards),
            hold_modes=tuple(k for k, _ in holds),
            hold_sticks=tuple(int(n.modes[k].rests) for k, _ in holds),
            mode_starts=(*(m.start for m in n.modes), *(0 for _ in n.gates)),
            demoted_keys=tuple(e.key for e in self.system.demoted),
            loops=len(self.system.torn),
            steady_jacobian=steady,
            jacobian=jacobian,
            elimination=elimination,
            forced=forced,
            pulses=tuple(
                PulseShape(
                    p.card,
                    p.command,
                    p.upper,
                    p.lower,
                    p.carrier,
                    p.sampling,
                    p.scale,
                    p.offset,
                    p.opens,
                    tuple(p.numbers.items()),
                )
                for p in n.pulses
            ),
            switched=tuple((modes.index(d.gate), states.index(d.state)) for d in n.switched),
            source=emitter.source(),
        )

    def emit_affine(self, emitter: Emitter) -> tuple[int, ...] | None:
        """Derivatives and guards as matrices, for fixed steps of few states; see `Structure.forced`."""
        x = self.symbols["x"]
        n, guards = x.numel(), stacked(*(g for *_, g in self.guards))
        both = ca.vertcat(ca.densify(self.rhs), ca.densify(guards))
        forced = moving_part(self.symbols, both) if 0 < n <= MOST_STATES else None
        if forced is None:
            emitter.function("pd_affine", [("c", ca.SX()), ("k", ca.SX())])
            emitter.function("pd_forced", [("b", ca.SX())])
            return None
        rest = without_states(self.symbols, both)
        steady = ca.SX(rest)
        for place in forced:
            steady[place] = 0
        slopes = ca.jacobian(guards, x) if guards.numel() else ca.SX()
        emitter.function("pd_affine", [("c", steady), ("k", slopes)], hoists=False)
        emitter.function("pd_forced", [("b", rest[list(forced)] if forced else ca.SX())])
        return forced


MOST_STATES = 24
"""States up to which a matrix for all of them beats their equations."""
SPARSE_FROM = 40
"""States from which on it pays to know which entries of the Jacobian may not be zero; measured in
docs/numerics.md."""
FULL = 0.25
"""Share of entries from which on it does not."""


def few_entries(slopes: ca.SX) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """See `Structure.jacobian` and `Structure.elimination`. The order is that of approximately least degree on
    the pattern made symmetric (Amestoy, Davis and Duff, SIAM J. Matrix Anal. Appl. 17 (1996) 886), by CasADi."""
    n = slopes.shape[0]
    if n < SPARSE_FROM or slopes.shape != (n, n) or slopes.nnz() > FULL * n * n:
        return (), ()
    pattern = slopes.sparsity()
    rows, columns = (np.array(a) for a in pattern.get_triplet())
    order = (pattern + pattern.T + ca.Sparsity.diag(n)).amd()
    return tuple((rows + n * columns).tolist()), tuple(order)
