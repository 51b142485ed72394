"""What a script asks of a drive's loops: models, margins, gains, tolerances and modes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from pendel.core import verbs
from pendel.core.drive import commands
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.user_text import known_name
from pendel.core.verbs.asking import LoopReport
from pendel.interface.drive_edits import EditedDrive, changes_drive

if TYPE_CHECKING:
    from pendel.core.loops.mechanics.calming import Calming
    from pendel.core.loops.mechanics.modes import Mechanics
    from pendel.core.loops.models.linear_models import LinearModel
    from pendel.core.loops.models.sweep import Swept
    from pendel.core.loops.models.transfer import Ends, Transfer
    from pendel.core.loops.regulators.find import Loop
    from pendel.core.loops.tuning.tolerances import Tolerated
    from pendel.core.loops.tuning.within_limits import TunedLoops


class JudgedDrive(EditedDrive):
    """A drive whose loops can be judged and tuned: the part of `pendel.Drive` that the page Loops shows."""

    def judge(self, at: str = "rest", *, continuous: bool = False) -> list[LoopReport]:
        """Its loops, inside out, with their margins; at ``"steady"`` in the rotation in which a run ends,
        ``"measured"`` by sines in runs. ``continuous`` gives margins as if nothing were sampled, with delays as such.
        Raises `DriveHasFindings` and `DriveProblem`.

        >>> for loop in d.judge():
        ...     print(loop.name, f"{loop.crossover:.0f} Hz, {loop.phase_margin:.0f}°")
        Current 325 Hz, 83°
        Speed 9 Hz, 61°
        """
        return verbs.loops(self.document, at=at, continuous=continuous)

    def linear(self, source: str, target: str, *, opened_at: tuple[str, ...] = ()) -> LinearModel:
        """Linear model from one signal or tap to another. See `pendel.core.loops.models.linear_models.LinearModel`.

        >>> model = d.linear("bridge.duty", "i_door")
        >>> model.input, model.output, model.dt
        ('bridge.duty', 'door_motor.current', 0.0)
        """
        from pendel.core.loops.models.linear import linear_model
        from pendel.core.runs.preparing.simulate import averaged, prepare
        from pendel.core.system.fold import at_level

        return linear_model(
            prepare(averaged(at_level(self.document))),
            self._signal(source),
            self._signal(target),
            tuple(self._signal(o) for o in opened_at),
        )

    def transfer(self, source: str, target: str, *, opened: Sequence[str] = (), at: str | float = "any") -> Transfer:
        """The linear model between two signals or taps; see `pendel.core.loops.models.transfer.Ends` for where and
        about what; a time also as text, such as ``"0.4 s"``.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> way = d.transfer("i_set", "i_door", at="rest")
        >>> print(f"{abs(way.response(np.array([100.0]))[0]):.2f}")
        0.98
        """
        from pendel.core.loops.regulators.between import model_between

        return model_between(self.document, self._ends(source, target, opened, at))

    def sweep(
        self,
        source: str,
        target: str,
        frequencies: Sequence[float] = (),
        *,
        opened: Sequence[str] = (),
        at: str | float = "any",
        amplitude: float | None = None,
    ) -> Swept:
        """The same measured in runs at the drive's level of detail, at frequencies in Hz; see
        `pendel.core.loops.models.sweep`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> point = d.sweep("i_set", "i_door", [300.0], at="rest").points[0]
        >>> abs(point.off_db) < 0.2 and abs(point.off_degrees) < 2
        True
        """
        from pendel.core.loops.regulators.between import sweep_between

        return sweep_between(self.document, self._ends(source, target, opened, at), frequencies, amplitude)

    @changes_drive
    def keep_transfer(self, name: str, source: str, target: str, *, opened: Sequence[str] = (), at: str = "") -> None:
        """Keep a way between two signals or taps in the drive by a name, to be looked at on Loops.

        >>> d.keep_transfer("current by setpoint", "i_set", "i_door")
        """
        self.do(commands.keep_transfer(self.document, name, KeptTransfer(source, target, tuple(opened), at)))

    def loops(self) -> list[Loop]:
        """The loops of the drive, inside out, with margins.

        >>> [loop.regulator for loop in d.loops()]
        ['current_pi', 'speed_pi']
        """
        from pendel.core.loops.regulators.find import find_loops

        return find_loops(self.document)

    @changes_drive
    def propose_gains(
        self, regulator: str, rule: str = "crossover", *, at: str = "rest", **wishes: float
    ) -> dict[str, float]:
        """Gains of a regulator by a rule, judged as `judge` does ``at``; see `pendel.core.loops.tuning.rules`.

        >>> {name: round(gain, 4) for name, gain in d.propose_gains("current_pi", crossover=900.0).items()}
        {'K_p': 3.2937, 'T_i': 0.0006}
        """
        from pendel.core.loops.regulators.judged_at import judged_at
        from pendel.core.loops.tuning.tuning import propose

        gains = propose(self.document, regulator, rule, at=judged_at(at), **wishes)
        return {name: float(gain) for name, gain in gains.items()}

    @changes_drive
    def propose_all_gains(self) -> dict[str, str]:
        """Take first gains for every loop, inside out; returns loops left as they are, with the reason.

        >>> d.propose_all_gains()
        {}
        """
        from pendel.core.loops.tuning.tuning import propose_all

        proposal = propose_all(self.document)
        if proposal.command.changes:
            self.do(proposal.command)
        return dict(proposal.left)

    @changes_drive
    def tune(self, loop: str = "", *, goal: str = "disturbance", at: str = "rest", **limits: float) -> TunedLoops:
        """Take the gains that are best by a goal (disturbance, settling, effort) within limits, of one loop by its
        regulator or of all, inside out, where they are judged `at`; see
        `pendel.core.loops.tuning.within_limits.Limits` for what can be limited.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> tuned = d.tune("current_pi", goal="settling", phase_margin=55.0, ms=1.5)
        >>> list(tuned.searched)
        ['current_pi']
        """
        from dataclasses import fields

        from pendel.core.loops.regulators.judged_at import judged_at
        from pendel.core.loops.tuning.within_limits import Goal, Limits, tune

        known = [f.name for f in fields(Limits)]
        for name in limits:
            known_name("limit", name, known, "tuning")
        known_name("goal", goal, [g.value for g in Goal], "tuning")
        tuned = tune(self.document, Limits(**limits), Goal(goal), loop, at=judged_at(at))
        if tuned.command.changes:
            self.do(tuned.command)
        return tuned

    def tolerate(
        self,
        regulator: str,
        spreads: Mapping[str, float],
        *,
        samples: int = 100,
        at: str = "rest",
        seed: int = 1,
    ) -> Tolerated:
        """Judge a loop, as `judge` does ``at``, while quantities and values (``card.value``) are off by ± shares of
        themselves, at all corners and at random samples; see `pendel.core.loops.tuning.tolerances`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> spread = d.tolerate("current_pi", {"door_motor.L_a": 0.2}, samples=5)
        >>> spread.holds, len(spread.samples)
        (True, 8)
        """
        from pendel.core.loops.regulators.judged_at import judged_at
        from pendel.core.loops.tuning.tolerances import Spread, tolerate

        shares = [Spread(n, s) for n, s in spreads.items()]
        return tolerate(self.document, regulator, shares, samples, at=judged_at(at), seed=seed)

    def modes(self, at: str = "") -> Mechanics:
        """Natural frequencies, damping and shapes of what swings: at rest with everything in contact, or at an
        operating point as for `transfer`.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> print(f"{d.modes().modes[0][1].frequency:.1f} Hz")
        6.8 Hz
        """
        from pendel.core.loops.judging.looked_at import mechanics_at

        return mechanics_at(self.document, at)

    @changes_drive
    def calm(
        self, by: str = "damping", *, mode: int = 1, behind: str = "", speed: str = "", damping: float = 0.3
    ) -> Calming:
        """Put a ``"notch"``, a ``"low-pass"`` or a ``"damping"`` loop against a mode, as blocks, in one step.

        Parameters
        ----------
        mode
            its number from 1, slowest first.
        behind
            the block output they act on; the torque, force or current nearest to the plant without it.
        speed
            what a damping loop feeds back; that of the first body without it.
        damping
            for a damping loop to reach.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> found = d.calm("notch", behind="speed_pi.out")
        >>> d.undo()
        'Put a notch behind speed_pi.out'
        """
        from pendel.core.loops.judging.looked_at import calming_of
        from pendel.core.loops.mechanics.calming import command_for, means_of

        calming = calming_of(
            self.document, means_of(by), mode, self._signal(behind), self._signal(speed), float(damping)
        )
        self.do(command_for(self.document, calming))
        return calming

    def _ends(self, source: str, target: str, opened: Sequence[str], at: str | float) -> Ends:
        """Taps resolved, a time as text read. Raises `DriveProblem`."""
        from pendel.core.loops.judging.looked_at import place_of
        from pendel.core.loops.models.transfer import Ends

        place = place_of(self.document, at) if isinstance(at, str) else at
        return Ends(self._signal(source), self._signal(target), tuple(map(self._signal, opened)), place)

    def _signal(self, name: str) -> str:
        return str(self.document.taps[name]) if name in self.document.taps else name
