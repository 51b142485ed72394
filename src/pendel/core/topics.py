"""Pages of help on what is no part and no block: settings, measures, methods, levels, figures of a loop, plots.
Measures say what they are where they are declared."""

from __future__ import annotations

import inspect
import sys
from dataclasses import dataclass
from functools import lru_cache

from pendel.core.catalogue.help import HelpPage, Section, unwrapped
from pendel.core.drive.document import DEFAULT_SETTINGS
from pendel.core.wording import sentence_case

SETTINGS = (
    (
        "title",
        "Title",
        "What the drive is called.",
        "It stands beside the menus and in reports. A drive without one gets the name of its file.",
    ),
    (
        "until",
        "Run length",
        "How long a run lasts, in the time of the drive.",
        "An expression with a unit, such as `1.2 s` or `3*t_up`. A live run has no end.",
    ),
    (
        "tick",
        "Sampling period",
        "How often the control deck runs.",
        "All blocks run at each tick, or every so many ticks where they say so (`every`). Measured values are taken, "
        "and outputs change, at ticks alone. Loops count this period, and the computing delay, as dead time.",
    ),
    (
        "computing_delay",
        "Computing delay",
        "Ticks between a measured value and the output that follows from it.",
        "0 or 1. A processor that computes until shortly before the next tick gives its output there: 1.",
    ),
    (
        "method",
        "Method",
        "How a run steps through time.",
        "Automatic chooses by what the drive is; each method has a page of its own.",
    ),
    (
        "tolerance",
        "Tolerance",
        "How exactly a run follows the equations, relative.",
        "Of the error in one step, by methods whose steps follow the error. 1e-6 is usual; smaller is slower.",
    ),
    (
        "step",
        "Fixed step",
        "The step of the method with fixed steps.",
        "In which a drive runs as on hardware in real time. What it errs by is told where it is more than 1 %.",
    ),
    (
        "seed",
        "Noise seed",
        "Where random numbers begin.",
        "The same seed gives the same noise, in this and in any other run, here and on any computer.",
    ),
    (
        "sensors",
        "All sensors",
        "Whether sensors have their errors, or are ideal, all at once.",
        "To see what offset, noise, delay and resolution cost. Each sensor has the same choice for itself.",
    ),
    (
        "controller",
        "Controller",
        "Whether blocks run as modelled, or the shipped C runs.",
        "As shipped, a run has the very code inside that Firmware writes, in its number formats; signals show how far "
        "that is from float 64.",
    ),
)
LEVELS = (
    (
        "system",
        "System",
        "A machine that carries an envelope stands for its converter and inner loops.",
        "Of the whole drive, before all others. Envelopes are made by Run, Make envelope; what has none runs averaged.",
    ),
    ("averaged", "Averaged", "A converter gives the mean of its pulses.", "Fast; no ripple is seen, but known."),
    (
        "switching",
        "Switching",
        "Ideal switches open and close at their instants.",
        "Ripple, dead time and harmonics are seen. Switches have drops and resistances, and change at once.",
    ),
    (
        "device",
        "Device",
        "Switches take time, and lose energy in switching.",
        "Currents rise and fall within the times of a data sheet; energies and junction temperatures are booked.",
    ),
)
METHODS = (
    (
        "auto",
        "Automatic",
        "The method by what the drive is.",
        "DOPRI5, RODAS4 while steps times the fastest mode stay above 3, third order up to the next edge.",
    ),
    (
        "fast",
        "Fast, order 2 to 3",
        "Explicit, for drives that are not stiff.",
        "Kutta’s method of third order and the midpoint rule, where an edge or a tick is near anyway.",
    ),
    (
        "explicit",
        "Explicit, order 5",
        "For drives whose modes are of one speed.",
        "DOPRI5 (Hairer, Nørsett, Wanner: Solving ODEs I, section II.5); small tolerances cost little.",
    ),
    (
        "stiff",
        "Stiff, order 4",
        "Implicit, for drives with fast modes that have died out.",
        "RODAS4, L-stable (Hairer, Wanner: Solving ODEs II, section IV.10); steps follow what still moves.",
    ),
    ("fixed", "Fixed step, real time", "As on hardware that must keep up with the clock.", "Its step is a setting."),
)
LOOPS = (
    ("crossover", "Crossover", "Where the open loop’s gain is one.", "How fast the loop is; Hz."),
    (
        "phase margin",
        "Phase margin",
        "How much more phase the loop could lose at the crossover.",
        "Degrees to −180°. 45° and more are usual. Åström, Murray: Feedback Systems, 2nd ed., section 10.3.",
    ),
    (
        "gain margin",
        "Gain margin",
        "By how much more gain the loop would begin to swing.",
        "In dB, at the frequency where the phase is −180°. Åström, Murray, section 10.3.",
    ),
    (
        "Ms",
        "Ms, the largest sensitivity",
        "By how much the loop amplifies a disturbance where that is worst.",
        "The inverse of the shortest distance between L and −1 in Nyquist’s plot; 1.2 to 2 are usual. Åström, "
        "Murray, section 12.2.",
    ),
    (
        "delay margin",
        "Delay margin",
        "How much more dead time the loop stands.",
        "The phase margin over the crossover in rad/s. Åström, Murray, section 10.3.",
    ),
)

PLOTS = (
    (
        "strips",
        "Strips",
        "Traces of runs over one axis of time, a strip to a unit.",
        "Drag a signal from the list onto a strip, or double-click it for a strip of its own. Cursor 1 and 2 bound "
        "what the measures are of; arrow keys move them. Of long runs a column of pixels shows the highest and the "
        "lowest value within it, so that no peak is lost.",
    ),
    (
        "measures",
        "Measures between the cursors",
        "Figures of the strip's signal, then mean, rms and ripple of the strips, then what was lost.",
        "A dash stands where a figure means nothing; its tooltip says why. The pointer on a figure's name and F1 open "
        "what it is.",
    ),
    (
        "spectrum",
        "Spectrum",
        "Lines of one signal between the cursors, for every shown run.",
        "Amplitudes of the lines. THD is the root of the summed squares of orders 2 to "
        "50 over the fundamental (IEC 61000-4-7). With a voltage to a current: P, S, N and power factor (IEEE 1459).",
    ),
    (
        "rotor",
        "Rotor",
        "Current, voltage and flux of a machine at the cursor as vectors, from the stator and from the rotor.",
        "Along α and β they turn; along d and q they stand still in a steady state. d is the direction of the "
        "magnet's, or of the rotor's, flux.",
    ),
    (
        "sectors",
        "Block commutation",
        "The six sectors of the Hall sensors, the live one, and what the legs do in each.",
        "The dial stands where the decoder was at the cursor.",
    ),
    (
        "modes_of_run",
        "Modes of a state machine",
        "Which mode was on when, why each came, and the time and energy of each.",
        "Time and energy are those between the cursors.",
    ),
    (
        "torque_speed",
        "Torque over speed",
        "Where a machine went in the shown runs, within what it can do.",
        "The limits are those of its current and of the link's voltage; what heat allows is added once it was worked "
        "out by Run, Torque that heat allows.",
    ),
    (
        "bode",
        "Magnitude and phase over frequency",
        "How much a sine passes through, and how late, over its frequency.",
        "Of L, once around the open loop: where its magnitude is one is the crossover; phase above −180° there is "
        "the phase margin. Thin as it stands, bold as proposed. Åström, Murray: Feedback Systems, section 10.2.",
    ),
    (
        "complex_plane",
        "L in the complex plane",
        "Real and imaginary part of L over all frequencies, with the point −1.",
        "The loop is stable if the curve goes around −1 as often as L has unstable poles; how near it comes is 1/Ms. "
        "Nyquist's criterion: Åström, Murray, section 10.2.",
    ),
    (
        "after_step",
        "After a step",
        "What the closed loop, or a chain of blocks, does after a step, tick by tick.",
        "Of the linear model: limits of the regulator are not in it. A run shows them.",
    ),
    (
        "sensitivity",
        "S and T",
        "How a disturbance and a setpoint come through the closed loop, over frequency.",
        "S = 1/(1 + L): below one the loop helps, above one it makes a disturbance worse; its largest value is Ms. "
        "T = L/(1 + L) = 1 − S. Åström, Murray, section 12.2.",
    ),
    (
        "poles",
        "Poles and zeros",
        "Where a transfer function is infinite (×) and where it is nil (○).",
        "Left of the imaginary axis what was set off dies out; the distance from it is how fast. What runs at ticks is "
        "shown as s = ln(z)/T, up to half of the sampling frequency.",
    ),
    (
        "mode_shape",
        "Shape of a mode",
        "How the bodies of the shaft swing against each other at one frequency.",
        "Bars are speeds, seen from the first body; what twists most between them is the spring that gives way.",
    ),
    (
        "mobility",
        "From torque to speed",
        "How much speed a torque brings at one place of the shaft, over frequency.",
        "Peaks are modes; dips are where the rest of the shaft swings against it.",
    ),
    (
        "rows",
        "Rows of a series",
        "A figure of each run over what varies.",
        "A click chooses a row, which is shown beside it.",
    ),
    ("map_of_rows", "Map of a series", "A figure of each run over two things that vary.", "A click chooses a row."),
    (
        "histogram",
        "How a figure is spread",
        "How many rows have which value.",
        "Where a limit is given, the share of rows that keep it.",
    ),
    (
        "parallel",
        "Rows on parallel axes",
        "Every row as a line across one axis a column.",
        "A drag along an axis keeps the rows that go through there. Inselberg: Parallel Coordinates, Springer 2009.",
    ),
    (
        "matrix",
        "Every column over every other",
        "A small plot for each pair of columns.",
        "A drag over a field keeps the rows in it. Cleveland: Visualizing Data, Hobart 1993.",
    ),
    ("row_traces", "Traces of rows", "A signal of the rows that keep traces, over time.", "A click chooses a row."),
    (
        "scope",
        "Oscilloscope",
        "Channels of the board over time, about the instant of the trigger.",
        "The wheel zooms time at the pointer, with Shift the other axis; a double click fits. Two cursors bound the "
        "figures below.",
    ),
    (
        "comparison",
        "As shipped beside as modelled",
        "A signal of the C that ships, the same in float 64, and the difference.",
        "The difference is what number formats cost in that run.",
    ),
    (
        "flow",
        "Energy flow",
        "Where the energy of a run went, from source to load.",
        "Bands are as wide as the energy between two parts; what leaves at the side is lost.",
    ),
    (
        "duty",
        "Heat over a duty",
        "Temperatures over minutes or hours of a duty.",
        "Losses come from short runs, which can be opened; bodies follow between them.",
    ),
    (
        "envelope",
        "Envelope of a machine",
        "Limits and losses of a machine with its converter and inner loops, from short runs.",
        "It stands for them at the level System, and in drives of trips.",
    ),
    (
        "held_torque",
        "Torque that heat allows",
        "What can be held over speed, for ever and for times, and what limits it where.",
        "Standing and turning, from cold or warm; a winding, a magnet, a junction, the link or the current limits it.",
    ),
    (
        "split",
        "Best possible split",
        "The least fuel with which a trip can be driven to the same charge, beside what was driven.",
        "A bound to compare with: it knows the whole trip in advance.",
    ),
)


@dataclass(frozen=True)
class Topic:
    """A page that is found by its ``title`` and ``words``; ``id`` is ``group:name``."""

    id: str
    title: str
    page: HelpPage
    words: str

    @property
    def sentence(self) -> str:
        return self.page.sentence


@lru_cache(maxsize=1)
def topics() -> dict[str, Topic]:
    """All of them, by their ids."""
    found = [
        *(_topic("setting", "Setting of the drive", *each) for each in SETTINGS),
        *(_topic("level", "Level of detail", *each) for each in LEVELS),
        *(_topic("method", "Method", *each) for each in METHODS),
        *(_topic("loop", "Figure of a loop", *each) for each in LOOPS),
        *(_topic("plot", "Plot", *each) for each in PLOTS),
        *_measures(),
        *_columns(),
    ]
    return {topic.id: topic for topic in found}


def _topic(group: str, kind: str, name: str, title: str, sentence: str, text: str) -> Topic:
    sections = [Section("What it is", text=text)] if text else []
    if group == "setting" and (usual := DEFAULT_SETTINGS.get(name)):
        sections.append(Section("Usually", text=usual))
    page = HelpPage(f"{title}", sentence, (Section("", ((kind, "", ""),)), *sections))
    return Topic(f"{group}:{name}", title, page, f"{title} {name} {kind} {sentence}".lower())


def _measures() -> list[Topic]:
    """As each measure's own file says."""
    from pendel.core.measures import MEASURES  # slow to load

    found = []
    for measure in MEASURES:
        module = sys.modules.get(getattr(measure.of, "__module__", ""))
        text = unwrapped(inspect.getdoc(module) or "") if module is not None else ""
        if not text:
            continue
        sentence, _, rest = text.partition("; ")
        title = sentence_case(measure.title)
        page = HelpPage(
            title,
            sentence.rstrip(".") + ".",
            (
                Section("", (("Measure of a run", "", ""),)),
                Section("Unit", text=measure.unit or "that of the signal"),
                *([Section("Where it is from", text=rest)] if rest else []),
                *([Section("Why there may be none", text=measure.why_none)] if measure.why_none else []),
            ),
        )
        found.append(Topic(f"measure:{measure.id}", title, page, f"{title} {measure.id} {text} measure".lower()))
    return found


def _columns() -> list[Topic]:
    """What else a column of a series may tell of a row."""
    from pendel.core.series.columns import FIGURES, REACHES, WHOLE  # slow to load
    from pendel.core.series.loop_figures import MARGINS

    of_signal = {**FIGURES, REACHES.id: REACHES}
    known = {name: (each.title, each.unit, f"{name}(signal, from, to)") for name, each in of_signal.items()}
    known["reaches"] = *known["reaches"][:2], "reaches(signal, value, from, to)"
    known |= {name: (title, unit, f"{name}(from, to)") for name, (title, unit, _) in WHOLE.items()}
    known |= {name: (title, unit, f"{name}(regulator)") for name, (title, unit, _) in MARGINS.items()}
    kind, found = "Figure in a column of a series", []
    for name, (title, unit, written) in known.items():
        shown = sentence_case(title)
        open_end = "; without times, of the whole run" if "to)" in written else ""
        sections = (
            Section("", ((kind, "", ""),)),
            Section("Unit", text=("that of the signal" if unit is None else unit) or "none"),
        )
        page = HelpPage(shown, f"{written}{open_end}.", sections)
        found.append(Topic(f"measure:{name}", shown, page, f"{title} {name} {kind}".lower()))
    return found


def matching_topics(text: str) -> list[Topic]:
    """Those that have all words of a text; by their titles where there are none."""
    words = text.lower().split()
    return sorted((t for t in topics().values() if all(word in t.words for word in words)), key=lambda t: t.title)
