"""Pages of help on what is no part and no block: settings, measures, methods, levels, figures of a loop. Measures say
what they are where they are declared."""

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
        *_measures(),
    ]
    return {topic.id: topic for topic in found}


def _topic(group: str, kind: str, name: str, title: str, sentence: str, text: str) -> Topic:
    sections = [Section("What it is", text=text)] if text else []
    if group == "setting":
        sections.append(Section("Usually", text=str(DEFAULT_SETTINGS[name])))
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


def matching_topics(text: str) -> list[Topic]:
    """Those that have all words of a text; by their titles where there are none."""
    words = text.lower().split()
    return sorted((t for t in topics().values() if all(word in t.words for word in words)), key=lambda t: t.title)
