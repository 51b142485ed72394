"""A program that runs: opened, advanced, looked at, changed, saved, restored and closed.

A run has the same rows to the bit however it is cut: `Simulator.advance` ends with the step that reaches the
time asked for, and steps are chosen as if there were no pause. Simulators share builds and nothing else, and
let go of the interpreter while they compute, so that several can run in threads at once.
"""

from __future__ import annotations

import ctypes
import itertools
import math
import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from types import TracebackType

import numpy as np

from pendel.core.errors import RunProblem
from pendel.core.plant.methods import number_of
from pendel.core.plant.program import (
    DeviceTest,
    Doubles,
    Inputs,
    Outcome,
    Program,
    PulseNumbers,
    PulseShape,
)
from pendel.core.plant.recorded import Latest, Recorded, Ring, Snapshot, Watch
from pendel.core.plant.rows import evaluate_signals
from pendel.core.plant.runtime import (
    DOUBLE,
    Asked,
    PulseStruct,
    RunStruct,
    address,
    fastest_loop,
    load_together,
    note_evaluations,
    pointer,
    taken,
)
from pendel.core.plant.spare import SPARE_ROWS, SPARE_TICKS

MEMORY_LIMIT_LOG2 = 32
OUTCOMES, PAUSED = tuple(Outcome), Outcome.PAUSED
RECORD_BYTES = 256_000_000
"""From this size on a record is thinned, its older part first."""


class Simulator:
    """A run of a program. One thread at a time may use it.

    Parameters
    ----------
    watch
        flags through which another thread or process stops it and sees how far it is.
    condense
        is given the rows that a long record is about to lose, each once; where it returns False, as the run
        is to stop, they stay.
    ring
        lets the record keep its latest part only, for runs without an end.
    controller
        a build of the program's control to use, where it was built elsewhere.

    Raises
    ------
    BuildProblem
        where the program's C cannot be built.
    RunProblem
        where there is no memory for it.
    """

    def __init__(
        self,
        program: Program,
        inputs: Inputs,
        *,
        watch: Watch | None = None,
        condense: Callable[[np.ndarray], bool] | None = None,
        ring: Ring | None = None,
        controller: ctypes.CDLL | None = None,
    ):
        self.program, self.inputs, self.watch = program, inputs, watch or Watch.private()
        control = [program.control] if program.control and controller is None else []
        self._plant, *controllers = load_together((program.structure.source, *control))
        self._controller = controllers[0] if controllers else controller
        self.loop = fastest_loop(program.structure)
        """The library of the time loop; a structure may have one of its own."""
        self._advance: Callable[[object], int] = self.loop.pd_advance_as_asked
        self._kept: dict[str, np.ndarray] = {}
        self._failures: list[Exception] = []
        self._run = RunStruct()
        self._describe()
        self._take_numbers(inputs)
        if condense is not None:
            self._callback = CONDENSE(self._handing_over(condense))
            self._run.condense = ctypes.cast(self._callback, ctypes.c_void_p).value
        if ring is not None:
            self._run.row_limit, self._run.tick_limit = max(1000, 4 * ring.rows), max(1000, 4 * ring.ticks)
        self._run.rows, room = SPARE_ROWS.lend()
        self._run.cap_rows = room // (8 * self._width)
        if self._run.n_signal:
            self._run.ticks, room = SPARE_TICKS.lend()
            self._run.cap_ticks = room // (8 * self._run.n_signal)
        self._handle = self.loop.pd_open(ctypes.byref(self._run))
        self._branches: list[tuple[str, int]] = [(uuid.uuid4().hex, 0)]
        if not self._handle:
            self.close()
            raise RunProblem("There is not enough memory for the run. Close other programs or run a shorter time.")
        asked = Asked(self._handle)
        self._until, self._asked = DOUBLE.from_buffer(asked, Asked.until.offset), ctypes.byref(asked)

    # Constant for the program.

    def _describe(self) -> None:
        structure, run = self.program.structure, self._run
        run.nx, inputs, run.n_mode = structure.row_shape
        self._width = 1 + run.nx + inputs + run.n_mode
        run.n_command, run.n_profile = len(structure.commands), len(structure.profile_keys)
        run.n_guard, run.n_measured = len(structure.transitions), len(structure.measured)
        run.n_hold, run.n_hoisted, run.n_loops = (
            len(structure.hold_modes),
            self._plant.pd_hoisted(),
            self._plant.pd_looped(),
        )
        run.n_signal, run.n_pulse = len(self.program.control_signals), len(structure.pulses)
        for name in ("rhs", "guarded", "measure", "jac", "hold", "hoist", "affine", "forced"):
            setattr(run, name, address(self._plant, f"pd_{name}"))
        run.exit_mode, run.exit_from, run.exit_to = (
            self._ints(f"exits {k}", [e[k] for e in structure.transitions]) for k in range(3)
        )
        run.hold_mode = self._ints("hold modes", structure.hold_modes)
        run.hold_sticks = self._ints("hold rests", structure.hold_sticks)
        run.steady_jacobian = structure.steady_jacobian
        run.n_forced = -1 if structure.forced is None else len(structure.forced)
        run.forced_places = self._ints("forced", structure.forced or ())
        run.n_jac = len(structure.jacobian)
        run.jac_places = self._ints("Jacobian", structure.jacobian)
        run.jac_order = self._ints("elimination", structure.elimination)
        run.n_switched = len(structure.switched)
        if structure.switched:
            run.switched = address(self._plant, "pd_switched")
        run.switched_gates = self._ints("switched gates", [gate for gate, _ in structure.switched])
        run.switched_states = self._ints("switched states", [state for _, state in structure.switched])
        run.stop, run.progress = pointer(self.watch.stop), pointer(self.watch.progress)
        run.max_rows_log2 = MEMORY_LIMIT_LOG2
        run.row_limit = max(1000, RECORD_BYTES // (8 * self._width))

    def _take_numbers(self, inputs: Inputs) -> None:
        """All numbers at the start of a run."""
        run, settings = self._run, inputs.settings
        run.method, run.delay = number_of(settings.method), inputs.delay
        run.t_end, run.tick, run.rtol, run.h_max = (
            settings.until,
            inputs.tick,
            settings.tolerance,
            settings.h_max,
        )
        run.fixed_step = settings.fixed_step
        run.atol = self._doubles("tolerances", [1e-3 * settings.tolerance] * run.nx)
        run.p = self._doubles("parameters", inputs.parameters)
        run.x0, run.s0 = self._doubles("starts", inputs.starts), self._doubles("modes", inputs.modes)
        self._take_profiles(inputs)
        self._pulses = pulse_structs(self.program.structure.pulses, inputs.pulses, self.program)
        run.pulses = ctypes.addressof(self._pulses)
        self._take_shorts(inputs)
        if self._controller is not None:
            self._memory = ctypes.create_string_buffer(self._controller.pd_ctl_size() + 16)
            values = self._doubles(
                "controls", inputs.controls
            )  # profile tables in the controller's memory point into it
            self._controller.pd_ctl_init(ctypes.c_void_p(ctypes.addressof(self._memory)), ctypes.c_void_p(values))
            run.controller, run.ctl = address(self._controller, "pd_ctl_tick"), ctypes.addressof(self._memory)

    def _take_profiles(self, inputs: Inputs) -> None:
        run = self._run
        run.profile_count = self._ints("profile counts", [len(times) for times, _ in inputs.profiles])
        run.profile_times = self._doubles("profile times", [t for times, _ in inputs.profiles for t in times])
        run.profile_values = self._doubles("profile values", [v for _, levels in inputs.profiles for v in levels])

    def _take_shorts(self, inputs: Inputs) -> None:
        run, settings = self._run, inputs.settings
        run.n_short, run.short_limit = len(settings.shorts), settings.short_limit
        places = list(itertools.accumulate((len(path.tests) for path in settings.shorts), initial=0))
        run.short_first = self._ints("short places", places)
        tests = [test for path in settings.shorts for test in path.tests]
        modes = self.program.structure.mode_keys
        run.short_tests = self._ints("short tests", [n for test in tests for n in test_numbers(test, modes)])
        run.short_since = self._doubles("short since", [math.inf] * run.n_short)

    def _doubles(self, name: str, values: Sequence[float] | Doubles) -> int:
        """Address of a copy, which is the run's own."""
        self._kept[name] = np.array(values if len(values) else [0.0], dtype=float)
        return pointer(self._kept[name])

    def _ints(self, name: str, values: Sequence[int]) -> int:
        self._kept[name] = np.array(values if len(values) else [0], dtype=np.int32)
        return pointer(self._kept[name])

    def _handing_over(self, condense: Callable[[np.ndarray], bool]) -> Callable[[int, int], int]:
        """An exception cannot pass through C, so it is raised by `advance` at the end, and nothing is handed
        over any more."""
        width, busy = self._width, self.watch.busy

        def hand_over(rows: int, count: int) -> int:
            if self._failures or not count:
                return 1
            block = (ctypes.c_double * (count * width)).from_address(rows)
            busy[0] += 1
            try:
                return int(condense(np.ctypeslib.as_array(block).reshape(count, width)))
            except Exception as problem:  # noqa: BLE001  raised again by `advance`
                self._failures.append(problem)
                return 1
            finally:
                busy[0] -= 1

        return hand_over

    # What a run does.

    def begin_with(self, commands: Doubles) -> None:
        """What the power stage gets in the first tick of a controller whose commands wait for one, shape (commands,);
        zeros without it."""
        self._must_be_open()
        given = np.ascontiguousarray(commands, dtype=float)
        self.loop.pd_wait(self._handle, pointer(given))

    def advance(self, until: float = math.inf) -> Outcome:
        """Go on to the end of the first step that ends at ``until`` (s) or later, or to the end of the run.
        `Outcome.PAUSED` and `Outcome.STOPPED` tell that it can go on; after any other end, nothing happens
        any more."""
        if until != until:
            raise RunProblem("A run cannot go on to a time that is not a number. Give one in seconds.")
        self._until.value = until
        outcome = OUTCOMES[self._advance(self._asked)]  # once a slice, so little else is done here
        if outcome is not PAUSED and self._failures:
            raise self._failures[0]
        return outcome

    @property
    def time(self) -> float:
        """s; how far it is."""
        return float(self._run.t_out)

    @property
    def controller(self) -> tuple[ctypes.CDLL | None, int]:
        """The controller's build, and where its memory is, which stays there until the end."""
        return self._controller, int(self._run.ctl or 0)

    @property
    def outcome(self) -> Outcome:
        return Outcome(self._run.outcome)

    def present(self) -> tuple[Doubles, dict[str, float]]:
        """The present instant as a row (time, states, inputs, modes), and the blocks' signals of the latest
        tick."""
        self._must_be_open()
        blocks = self.program.control_signals
        row, ticked = np.zeros(self._width), np.zeros(max(1, len(blocks)))
        self.loop.pd_now(self._handle, pointer(row), pointer(ticked))
        return row, dict(zip(blocks, ticked.tolist()))

    def read(self, keys: Sequence[str]) -> dict[str, float]:
        """Signals at the present instant; those of blocks as of the latest tick.

        Raises
        ------
        RunProblem
            where there is no such signal.
        """
        structure = self.program.structure
        row, ticked = self.present()
        plant = [k for k in keys if k in structure.signals]
        values = (
            dict(
                zip(
                    plant,
                    evaluate_signals(structure, row[None, :], self._kept["parameters"], plant)[0].tolist(),
                )
            )
            if plant
            else {}
        )
        values |= ticked
        if unknown := [k for k in keys if k not in values]:
            raise RunProblem(
                f"There is no signal “{unknown[0]}”. Read one of "
                f"{', '.join(sorted((*structure.signals, *ticked))[:8])} …"
            )
        return {k: values[k] for k in keys}

    def write(self, parameter: str, value: float) -> None:
        """Give a parameter, ``card.value``, another value (SI) from the present instant on.

        Raises
        ------
        RunProblem
            where the program has no such parameter, the value is no finite number, or other equations hold
            for it.
        """
        self._must_be_open()
        if not math.isfinite(value):
            raise RunProblem(f"{parameter} cannot become {value}. Give a finite number.")
        plant, blocks = self.program.structure.parameter_keys, self.program.control_values
        if parameter not in plant and parameter not in blocks:
            known = ", ".join(sorted((*plant, *blocks))[:8])
            raise RunProblem(f"The program has no parameter “{parameter}”. Write one of {known} …")
        inputs = self.inputs
        if parameter in plant:
            parameters = inputs.parameters.copy()
            parameters[plant.index(parameter)] = value
            inputs = replace(inputs, parameters=parameters)
        if parameter in blocks:
            controls = inputs.controls.copy()
            controls[blocks.index(parameter)] = value
            inputs = replace(inputs, controls=controls)
        self.renew(inputs)

    def _must_keep_equations(self, values: Mapping[str, float]) -> None:
        """Raise `RunProblem` where a part states other equations for one of these: a resistance of zero is
        another circuit."""
        for card, name, question, answer in self.program.structure.answers:
            value = values.get(f"{card}.{name}")
            if value is not None and question.answer(value) != answer:
                raise RunProblem(
                    f"{card}.{name} cannot become {value:g} while it runs: other equations hold then. "
                    "Start a run with it."
                )

    def renew(self, inputs: Inputs) -> None:
        """Take parameters, profiles and values of blocks from other inputs of the same program, from the
        present instant on. States, modes, pulses and settings stay.

        Raises
        ------
        RunProblem
            where other equations hold for a value, or delay lines would become longer or shorter, whose
            contents would mean nothing.
        """
        self._must_be_open()
        self._must_keep_equations(dict(zip(self.program.structure.parameter_keys, inputs.parameters.tolist())))
        if len(inputs.controls) != len(self.inputs.controls):
            raise RunProblem("A delay cannot change its length while it runs. Start the run again.")
        plant = not np.array_equal(inputs.parameters, self.inputs.parameters) or inputs.profiles != self.inputs.profiles
        self._renew_controls(inputs.controls)
        self.inputs = replace(
            self.inputs, parameters=inputs.parameters, profiles=inputs.profiles, controls=inputs.controls
        )
        if plant:
            self._kept["parameters"][: len(inputs.parameters)] = inputs.parameters
            self._take_profiles(inputs)
            self.loop.pd_renew(self._handle)

    def _renew_controls(self, controls: Doubles) -> None:
        """Values, seeds and tables; the contents of delay lines, at the end, stay."""
        if self._controller is None:
            return
        mine, before = self._kept["controls"], self.inputs.controls
        changed = controls != before
        if np.any(changed):  # what a controller was given otherwise stays
            mine[: len(controls)][changed] = controls[changed]
            self._bind()

    def _bind(self) -> None:
        assert self._controller is not None
        self._controller.pd_ctl_bind(
            ctypes.c_void_p(ctypes.addressof(self._memory)), ctypes.c_void_p(pointer(self._kept["controls"]))
        )

    # Snapshots.

    def state(self) -> Snapshot:
        """The present state, to be restored here or elsewhere."""
        self._must_be_open()
        plant = np.empty(self.loop.pd_snapshot_bytes(self._handle), dtype=np.uint8)
        self.loop.pd_save(self._handle, pointer(plant))
        control = b""
        if self._controller is not None:
            control = self._memory.raw + self._kept["controls"].tobytes()
        return Snapshot(
            self.program.key,
            self.time,
            self.inputs,
            plant,
            control,
            (self._branches[-1][0], int(self._run.n_rows)),
        )

    def restore(self, snapshot: Snapshot) -> None:
        """Go back, or on, to a snapshot. The record goes on behind the rows it had there; where it has not
        these rows, it begins again with the snapshot.

        Raises
        ------
        RunProblem
            where the snapshot is of another program, or of other settings.
        """
        self._must_be_open()
        mine, its = self.inputs, snapshot.inputs
        if snapshot.program != self.program.key or len(mine.controls) != len(its.controls):
            raise RunProblem("The snapshot is of another drive. Restore one of this drive.")
        if (mine.settings, mine.tick, mine.delay) != (its.settings, its.tick, its.delay):
            raise RunProblem("The snapshot was taken with other settings of the run. Restore one taken with these.")
        same_values = np.array_equal(mine.parameters, its.parameters)
        self._kept["parameters"][: len(its.parameters)] = its.parameters
        branch = self._branch_of(snapshot)
        if its.profiles != mine.profiles:
            self._take_profiles(its)
        fits = self.loop.pd_restore(
            self._handle, pointer(snapshot.plant), len(snapshot.plant), same_values, branch is not None
        )
        if not fits:
            self._kept["parameters"][: len(mine.parameters)] = mine.parameters
            self._take_profiles(mine)
            raise RunProblem("The snapshot was made by another version of Pendel. Run again to there.")
        if self._controller is not None:
            size = len(self._memory)
            self._memory.raw = snapshot.control[:size]
            self._kept["controls"][:] = np.frombuffer(snapshot.control[size:])
            self._bind()
        self.inputs = its
        self._branches = [
            *(self._branches[: branch + 1] if branch is not None else []),
            (uuid.uuid4().hex, int(self._run.n_rows)),
        ]

    def _branch_of(self, snapshot: Snapshot) -> int | None:
        """Which stretch of the record the snapshot was taken behind, if all rows up to it still stand."""
        name, rows = snapshot.branch
        for place, (known, _) in enumerate(self._branches):
            if known == name:
                after = self._branches[place + 1 :]
                return place if not after or rows <= after[0][1] else None
        return None

    def since(self, row: int, tick: int, *, lent: bool = False) -> Latest:
        """The record from a row and a tick on, by their numbers, or from the oldest that it still has. ``lent``:
        the simulator's own memory, to be read before it goes on or is closed."""
        self._must_be_open()
        run, width = self._run, self._width
        first_row, first_tick = int(run.first_row), int(run.first_tick)
        row, tick = max(row, first_row), max(tick, first_tick)
        rows, ticks = (
            np.ctypeslib.as_array((ctypes.c_double * (n * w)).from_address(at)).reshape(n, w)[begin:]
            if at and n
            else np.empty((0, w))
            for at, n, w, begin in (
                (run.rows, run.n_rows, width, row - first_row),
                (run.ticks, run.n_ticks, run.n_signal, tick - first_tick),
            )
        )
        return Latest(rows, row, ticks, tick) if lent else Latest(rows.copy(), row, ticks.copy(), tick)

    # Its end.

    def recorded(self) -> Recorded:
        """The record so far, as a copy."""
        self._must_be_open()
        run, width = self._run, self._width
        rows, ticks = (
            np.ctypeslib.as_array((ctypes.c_double * (n * w)).from_address(at)).reshape(n, w).copy()
            if at and n
            else np.empty((0, w))
            for at, n, w in ((run.rows, run.n_rows, width), (run.ticks, run.n_ticks, run.n_signal))
        )
        return self._report(rows, ticks)

    def finish(self) -> Recorded:
        """Close it and hand over the record."""
        self._must_be_open()
        run, width, loop = self._run, self._width, self.loop
        rows = taken(run.rows, run.n_rows, width, SPARE_ROWS.take_back, 8 * width * run.cap_rows, loop.pd_release)
        ticks = taken(
            run.ticks,
            run.n_ticks,
            run.n_signal,
            SPARE_TICKS.take_back,
            8 * run.n_signal * run.cap_ticks,
            loop.pd_release,
        )
        run.rows = run.ticks = None
        report = self._report(rows, ticks)
        self.close()
        return report

    def _report(self, rows: np.ndarray, ticks: np.ndarray) -> Recorded:
        run, structure = self._run, self.program.structure
        outcome = Outcome(run.outcome)
        if outcome is Outcome.SHORTED:
            names: Sequence[str] = [path.source for path in self.inputs.settings.shorts]
        else:
            names = structure.mode_keys if outcome is Outcome.CHATTERS else structure.state_keys
        culprit = names[run.culprit] if run.culprit < len(names) else ""
        counters = {n: int(getattr(run, n)) for n in ("steps", "rejected", "evaluations", "events", "stiff_steps")}
        return Recorded(
            rows,
            ticks,
            outcome,
            culprit,
            run.t_out,
            counters,
            run.thinned_until,
            run.thinned_to,
            run.computing,
            run.worst_step,
            self._remembered(),
            run.first_tick,
        )

    def _remembered(self) -> dict[str, float]:
        if self._controller is None:
            return {}
        values = np.zeros(max(1, len(self.program.control_states)))
        self._controller.pd_ctl_states(
            ctypes.c_void_p(ctypes.addressof(self._memory)), ctypes.c_void_p(pointer(values))
        )
        return dict(zip(self.program.control_states, values.tolist()))

    def close(self) -> None:
        """Give its memory back; nothing else can be done with it then."""
        if self._handle:
            note_evaluations(self.program.structure, int(self._run.evaluations))
            self.loop.pd_close(self._handle)
            self._handle, self._advance = None, refuse
        for name in ("rows", "ticks"):
            if block := getattr(self._run, name):
                self.loop.pd_release(block)
                setattr(self._run, name, None)

    def _must_be_open(self) -> None:
        if not self._handle:
            raise RunProblem("The simulator is closed. Open another.")

    def __enter__(self) -> Simulator:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def __del__(self) -> None:
        if getattr(self, "_handle", None):
            self.close()


def refuse(_asked: object) -> int:
    raise RunProblem("The simulator is closed. Open another.")


CONDENSE = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_long)


def test_numbers(test: DeviceTest, mode_keys: Sequence[str]) -> list[int]:
    places = [mode_keys.index(m) for m in test.modes] + [-1, -1, -1]
    return [*places[:3], int(test.all_needed)]


CARRIERS = {"triangle": 0, "sawtooth": 1, "level": 2}
SAMPLINGS = {"at once": 0, "once": 1, "twice": 2}


def pulse_structs(
    shapes: Sequence[PulseShape], numbers: Sequence[PulseNumbers], program: Program
) -> ctypes.Array[PulseStruct]:
    """Pulse channels as the time loop takes them."""
    commands, modes = program.structure.commands, program.structure.mode_keys
    structs = (PulseStruct * max(1, len(shapes)))()
    for struct, shape, own in zip(structs, shapes, numbers):
        struct.command = commands.index(shape.command)
        struct.upper, struct.lower = (modes.index(g) if g else -1 for g in (shape.upper, shape.lower))
        struct.carrier, struct.sampling = CARRIERS[shape.carrier], SAMPLINGS[shape.sampling]
        struct.scale, struct.offset, struct.f = shape.scale, shape.offset, own.f
        struct.begins, struct.dead, struct.least = own.begins, own.dead, own.least
        struct.opens = shape.opens
        struct.on_delay, struct.off_delay = own.on_delay, own.off_delay
    return structs


__all__ = ["MEMORY_LIMIT_LOG2", "RECORD_BYTES", "Recorded", "Simulator", "Snapshot", "Watch"]
