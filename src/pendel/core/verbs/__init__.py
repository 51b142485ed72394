"""What can be done with a drive, once for all who ask: the terminal builds its words from `VERBS`, ``import
pendel``
calls the same functions."""

from collections.abc import Iterable

from pendel.core.verbs.asking import about, check, loops, signals
from pendel.core.verbs.changing import propose_gains, set_named, take_profile
from pendel.core.verbs.enveloping import envelope
from pendel.core.verbs.exporting import export_unit
from pendel.core.verbs.heating import heat, torque_held
from pendel.core.verbs.judging import linear_between
from pendel.core.verbs.mechanics import calm, modes
from pendel.core.verbs.running import measure, run
from pendel.core.verbs.series import run_series
from pendel.core.verbs.serving import serve_board
from pendel.core.verbs.shipping import (
    describe_for_tools,
    find_ranges,
    firmware,
    live_commands,
    live_values,
    propose_formats,
    ranges_of,
    write_c,
)
from pendel.core.verbs.splitting import best_split
from pendel.core.verbs.tuning import tune_loops
from pendel.core.verbs.verb import Parameter, Verb


def endings_of_traces() -> Iterable[str]:
    from pendel.core.formats.traces import formats  # slow to load

    return formats()


def endings_of_maps() -> Iterable[str]:
    from pendel.core.envelope.maps import ENDINGS  # slow to load

    return ENDINGS


def endings_of_models() -> Iterable[str]:
    from pendel.core.formats.linear_models import ENDINGS  # slow to load

    return ENDINGS


SIGNALS = Parameter(
    "signals",
    "comma-separated, such as door_motor.speed,door_motor.current; all without it",
    "LIST",
    many=True,
)
CONTINUOUS = Parameter("continuous", "margins as if nothing were sampled, with delays as such", flag=True)
JUDGED_AT = Parameter(
    "at",
    "rest, steady for the rotation in which a run ends, or measured by sines in runs; rest without it",
    "POINT",
)
UNTIL = Parameter("until", "run length, such as 1.2 s", "TIME", unit="s")
UNIT = Parameter("unit", "report a signal in another unit, such as door_motor.speed=rpm", "SIGNAL=UNIT", many=True)

FORMAT = Parameter("number_format", "of all blocks: float64, float32, fixed32 or fixed16", "FORMAT", option="format")
BLOCKS = Parameter(
    "blocks",
    "number format of one block, such as current_pi=fixed32",
    "BLOCK=FORMAT",
    many=True,
    option="block",
)

VERBS = (
    Verb("check", "report what is wrong with a drive", check),
    Verb("about", "print what a drive says of itself", about, runs=False),
    Verb("signals", "list the signals that a run of a drive can show", signals),
    Verb(
        "set",
        "change quantities, settings, values and choices of a drive",
        set_named,
        (
            Parameter(
                "assignments",
                "what to set, such as K_p=15 or bridge.level=switching",
                "NAME=VALUE",
                many=True,
                required=True,
            ),
        ),
        runs=False,
        changes=True,
    ),
    Verb(
        "profile",
        "give a card a profile over time: a driving cycle, or two columns of a table",
        take_profile,
        (
            Parameter("card", "a card with a profile, such as plan", "CARD", required=True),
            Parameter("cycle", "urban, extra_urban or combined, the parts of UN R83", "NAME"),
            Parameter("table", "text with columns, such as CSV", "FILE", reads=True),
            Parameter("columns", "time, then value; the first two without it", "NAME", many=True, option="column"),
            Parameter("times", "how often one after another; once without it", "COUNT"),
        ),
        runs=False,
        changes=True,
    ),
    Verb("propose", "take first gains for all loops of a drive, inside out", propose_gains, changes=True),
    Verb(
        "tune",
        "take the gains that are best within limits, of one loop or of all, inside out",
        tune_loops,
        (
            Parameter("loop", "a regulator; all closed loops without it", "LOOP"),
            Parameter("goal", "disturbance, settling or effort; disturbance without it", "GOAL"),
            Parameter("phase_margin", "at least, degrees; 45 without it", "DEGREES", option="phase-margin"),
            Parameter("ms", "at most; 1.7 without it", "MS"),
            Parameter("overshoot", "at most, percent; 20 without it", "PERCENT"),
            Parameter("effort", "largest output of the regulator after a setpoint step of one, SI", "PEAK"),
            Parameter("crossover", "at least, such as 200 Hz", "FREQUENCY", unit="Hz"),
            Parameter("fastest", "crossover at most, such as 2 kHz", "FREQUENCY", unit="Hz"),
            JUDGED_AT,
        ),
        changes=True,
    ),
    Verb(
        "run",
        "run a drive and write its traces",
        run,
        (UNTIL, SIGNALS, UNIT),
        writes="traces by its ending: .csv, .h5, .mat, .mf4 or what a package adds; without it, CSV to the terminal",
        endings=endings_of_traces,
    ),
    Verb(
        "measure",
        "run a drive and measure its signals between two times",
        measure,
        (
            Parameter("start", "such as 0.2 s; the run's beginning without it", "TIME", unit="s", option="from"),
            Parameter("end", "the run's end without it", "TIME", unit="s", option="to"),
            Parameter("setpoint", "also measure how the signals follow this one", "SIGNAL"),
            Parameter("fundamental", "such as 50 Hz: its amplitude and THD as well", "FREQUENCY", unit="Hz"),
            Parameter("voltage", "also measure the powers that currents have with this one", "SIGNAL"),
            Parameter("band", "in which what follows has settled, such as 5 %; 2 % without it", "SHARE"),
            UNTIL,
            SIGNALS,
            UNIT,
        ),
    ),
    Verb(
        "series",
        "run a drive many times with values that vary, and tell figures of each run; goes on where it was left",
        run_series,
        (
            Parameter("name", "a series that the drive plans; without it, they are listed", "NAME", placed=True),
            Parameter("cores", "how many runs at once; as many as there are cores without it", "N"),
            Parameter(
                "workers",
                "where rows run: tcp://host:port of a Dask scheduler, or local:N for so many processes here",
                "ADDRESS",
            ),
            Parameter("anew", "begin again with the drive as it is, and let go the rows that are there", flag=True),
            Parameter(
                "vary",
                "for a series of its own, such as R_load=30 ohm, 45 ohm or step_up.L=even: 100 uH, 300 uH, 9",
                "NAME=VALUES",
                many=True,
            ),
            Parameter(
                "figures",
                "what is told of each run, such as max(step_up.input_current); those of the plan without it",
                "FIGURE",
                many=True,
                option="figure",
            ),
            Parameter(
                "traces",
                "a signal of which something to draw is kept with each row, for a file .h5",
                "SIGNAL",
                many=True,
                option="trace",
            ),
            Parameter("combined", "all with all, row by row, Sobol points, Latin hypercube or random", "WAY"),
            Parameter("count", "how many rows, where points are sampled", "N"),
            Parameter("smallest", "search the values for which this figure is smallest", "FIGURE"),
            Parameter("largest", "search those for which it is largest", "FIGURE"),
            Parameter("equal", "search those for which it is a value, such as overshoot=5 %", "FIGURE=VALUE"),
            Parameter(
                "limits", "what a search keeps to, such as overshoot <= 5 % and peak < 24 A", "LIMITS", option="while"
            ),
            Parameter("trials", "how many runs a search may take; 200 without it", "N"),
        ),
        writes="its rows by its ending: .csv, .json, .parquet, or with traces .h5; without it, a summary goes to the "
        "terminal",
        endings=lambda: (".csv", ".json", ".parquet", ".h5"),
    ),
    Verb(
        "heat",
        "tell how warm a drive gets over a duty of minutes or hours, by short runs",
        heat,
        (
            Parameter("duty", "a table (CSV): time, then what is set, such as torque_demand.after", "FILE", reads=True),
            Parameter("kind", "S1 to S7 of IEC 60034-1 instead of a table", "TYPE", option="type"),
            Parameter("load", "of such a type, such as torque_demand.after=400 N*m", "NAME=VALUE"),
            Parameter("rest", "the value at rest or no load; 0 without it", "VALUE"),
            Parameter("time", "how long, or the period; 10 min without it", "TIME", unit="s"),
            Parameter("share", "of the period under load; 40 % without it", "SHARE"),
            Parameter("steady", "the cycle that repeats itself, instead of once from the start", flag=True),
            Parameter("rounds", "how often the duty follows itself from the start", "N"),
            Parameter("highest", "by which factor this may be larger until the first limit is reached", "NAME"),
            Parameter(
                "without_changes",
                "leave out what happens between stretches, such as starts",
                flag=True,
                option="without-changes",
            ),
        ),
        writes="the curves as CSV; the summary goes to the terminal",
        endings=lambda: (".csv",),
    ),
    Verb(
        "held",
        "report what torque heat allows over speed, for ever and for times, and what limits it",
        torque_held,
        (
            Parameter("machine", "a machine with a shaft, such as haul_machine", "CARD", required=True),
            Parameter("torque", "where its torque is asked for, such as torque_demand.out", "SIGNAL", required=True),
            Parameter("top_torque", "what is asked for at most, such as 400 N*m", "TORQUE", required=True),
            Parameter("top_speed", "the largest speed, such as 1200 rpm", "SPEED", required=True),
            Parameter("times", "how long: “for ever”, 60 s, 10 s", "TIME", many=True, option="for"),
            Parameter("speeds", "how many, from standstill; 7 without it", "N"),
            Parameter("before", "share of what is held for ever that had lasted before; 0 without it", "SHARE"),
        ),
        writes="the rows as CSV; they go to the terminal, too",
        endings=lambda: (".csv",),
    ),
    Verb(
        "split",
        "run a trip and report the least fuel for it by any split of the power",
        best_split,
        (
            Parameter("begin", "of the trip, such as 0 s; the run's without it", "TIME", option="from"),
            Parameter("end", "of the trip, such as 195 s; the run's without it", "TIME", option="to"),
            Parameter("step", "of the model; 1 s without it", "TIME"),
            UNTIL,
        ),
        writes="the steps as CSV",
        endings=lambda: (".csv",),
    ),
    Verb(
        "envelope",
        "make limits and losses of a machine with its converter, for trips, by short runs of the drive",
        envelope,
        (
            Parameter("machine", "a machine with a shaft, such as haul_machine", "CARD", required=True),
            Parameter("torque", "where its torque is asked for, such as torque_demand.out", "SIGNAL", required=True),
            Parameter("top_torque", "largest torque of the map, such as 400 N*m", "TORQUE", required=True),
            Parameter("top_speed", "largest speed of the map, such as 1200 rpm", "SPEED", required=True),
            Parameter("speeds", "how many, from standstill; 8 without it", "N"),
            Parameter("torques", "how many at each, of both signs; 12 without it", "N"),
            Parameter("checks", "points at random that the fit does not see; 12 without it", "N"),
            Parameter(
                "temperatures",
                "hold all that gives heat away at it, such as 80 °C, one map for each",
                "TEMPERATURE",
                many=True,
                option="temperature",
            ),
            Parameter("keep", "have the machine carry it, for the level system; --out writes this drive", flag=True),
        ),
        writes="a drive with the card, such as haul.pendel, or the map, such as haul.csv; values go to the terminal",
        endings=lambda: (".pendel", *endings_of_maps()),
    ),
    Verb(
        "loops",
        "report the loops of a drive with their margins",
        loops,
        (JUDGED_AT, CONTINUOUS),
    ),
    Verb(
        "linear",
        "report the linear model between two points of a drive, and the same measured in runs",
        linear_between,
        (
            Parameter("source", "where something comes in: a signal or a tap", "SIGNAL", option="from"),
            Parameter("target", "where it is looked at", "SIGNAL", option="to"),
            Parameter("opened", "a signal that is opened", "SIGNAL", many=True, option="open"),
            Parameter(
                "at",
                "rest, steady, built up, end, any, measured by sines in runs, or a time in a run such as 0.4 s; any "
                "without it",
                "POINT",
            ),
            Parameter(
                "swept",
                "measure at this frequency too, such as 100 Hz; usual for forty",
                "FREQUENCY",
                many=True,
                option="sweep",
            ),
            CONTINUOUS,
        ),
        writes="the model as .mat, .json or .py, or its response as .csv; without it, figures go to the terminal",
        endings=endings_of_models,
    ),
    Verb(
        "modes",
        "report natural frequencies, damping and shapes of what swings in a drive",
        modes,
        (
            Parameter(
                "at",
                "steady, built up, end, or a time in a run; at rest, all in contact, without it",
                "POINT",
            ),
        ),
    ),
    Verb(
        "calm",
        "put a notch, a low-pass or a damping loop against a mode of the mechanics",
        calm,
        (
            Parameter("by", "notch, low-pass or damping; damping without it", "MEANS"),
            Parameter("mode", "its number from 1, slowest first; 1 without it", "NUMBER"),
            Parameter("behind", "the block output it acts on; the torque nearest to the plant without it", "SIGNAL"),
            Parameter("speed", "what a damping loop feeds back; that of the first body without it", "SIGNAL"),
            Parameter("damping", "for a damping loop to reach; 0.3 without it", "SHARE"),
        ),
        changes=True,
    ),
    Verb(
        "c",
        "write the controller as C",
        write_c,
        (
            Parameter("folder", "where its files go", "FOLDER", required=True),
            FORMAT,
            BLOCKS,
            Parameter("board", "write what an own board needs to be watched and changed, too", flag=True),
        ),
    ),
    Verb(
        "a2l",
        "describe the numbers of the shipped controller for calibration tools (A2L 1.71)",
        describe_for_tools,
        (FORMAT, BLOCKS),
        writes="the description; without it, it goes to the terminal",
    ),
    Verb(
        "fmu",
        "make a drive, its plant or its controller a unit for other simulators (FMI 3.0, co-simulation)",
        export_unit,
        (
            Parameter("what", "plant, controller or drive; the drive without it", "PART"),
            Parameter(
                "inputs",
                "a profile or value that comes from outside, such as door_leaf.m",
                "NAME",
                many=True,
                option="input",
            ),
            Parameter(
                "step",
                "from tick to tick where no controller of the drive says so; 1 ms without it",
                "TIME",
                unit="s",
            ),
        ),
        writes="the unit, such as door.fmu; without it, its variables are listed",
        endings=lambda: (".fmu",),
    ),
    Verb(
        "board",
        "serve a stand-in board that runs the drive with its controller as shipped, until Ctrl+C",
        serve_board,
        (
            Parameter(
                "link",
                "tcp, tcp:PORT, udp, udp:PORT, serial, serial:SPEED or can; tcp without it",
                "LINK",
                many=True,
            ),
            Parameter("pace", "simulated time over time by the clock; 1 without it", "FACTOR"),
            Parameter("empty", "begin without a program", flag=True),
            Parameter("key", "32 hexadecimal digits; who may load it must know them", "KEY"),
            Parameter("processor", "m4f for one that is emulated; this computer without it", "PROCESSOR"),
        ),
        runs=False,
    ),
    Verb(
        "live",
        "have values of blocks changeable while the code runs",
        live_values,
        (
            Parameter(
                "wished",
                "a block, or such as current_pi.K_p or current_pi.K_p=0.5…8",
                "VALUE",
                many=True,
                required=True,
            ),
            Parameter("off", "keep them as constants again", flag=True),
        ),
        runs=False,
        changes=True,
    ),
    Verb(
        "ranges",
        "run a drive and keep what its controller's signals came to, for fixed point",
        find_ranges,
        (UNTIL,),
        changes=True,
    ),
    Verb(
        "formats",
        "take the narrowest number formats that stay within an error of a run",
        propose_formats,
        (Parameter("error", "largest rms error over a signal's span; 0.2 % without it", "SHARE"),),
        changes=True,
    ),
    Verb(
        "firmware",
        "report the controller as shipped: formats, ranges, findings, builds, processors",
        firmware,
        (
            FORMAT,
            BLOCKS,
            Parameter("check", "build it and compare it with the simulation", flag=True),
            Parameter("processor", "m4f, m3 or m0: run it there, emulated", "NAME", many=True),
            Parameter("clock", "of the processor, such as 72 MHz", "FREQUENCY", unit="MHz"),
        ),
    ),
)
"""In the order in which help lists them."""

__all__ = [
    "about",
    "VERBS",
    "Parameter",
    "Verb",
    "best_split",
    "calm",
    "check",
    "describe_for_tools",
    "envelope",
    "export_unit",
    "find_ranges",
    "linear_between",
    "live_commands",
    "live_values",
    "firmware",
    "heat",
    "loops",
    "measure",
    "modes",
    "propose_formats",
    "propose_gains",
    "ranges_of",
    "run",
    "run_series",
    "serve_board",
    "set_named",
    "signals",
    "take_profile",
    "torque_held",
    "tune_loops",
    "write_c",
]
