"""A sentence on what the pointer rests on, for icons, fields and heads that bring none themselves."""

from __future__ import annotations

import re

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtWidgets import QAbstractButton, QApplication, QHeaderView, QToolTip, QWidget

TIPS = {
    # above the pages
    "Run length": "Until when a run goes; a time with its unit, or an expression.",
    "Run or stop": "Runs the drive and keeps the run; while one goes on, stops it.",
    "Findings": "What is wrong with the drive, or worth a look; opens the list.",
    # Drive
    "Add a quantity …": "A name with a value that fields of all cards can use.",
    "Name": "What the card is called on the sheet; its signals and names in expressions follow.",
    "Values": "Values of the card, with units and limits.",
    "Start": "From where the states of the card start.",
    "Enter from": "Which data are entered; the others follow from them.",
    "Profile": "Corners of what the card prescribes over time, as a table and as a curve.",
    "Code": "How the block is computed on the board: number format, how often, which values stay live.",
    "Tables": "Flux linkages over both currents, which stand in place of inductances.",
    "Face": "What the assembly shows outside: its ports and the values that may be entered there.",
    "Update": "The own equations or modes, as they are typed.",
    "Add corner": "Another corner after the last one.",
    "Delete corner": "Takes the chosen corner out.",
    "Take or change": "Corners from a file or of a standard's cycle; repeated, or turned round in time.",
    "Load tables …": "From a CSV, HDF5 or MAT file.",
    "Look at them …": "The tables as curves.",
    "Open that drive": "The detailed drive from which this map was made.",
    # Runs
    "Kept runs": "Ticked runs lie on the strips; F2 renames, Delete removes.",
    "Find a signal": "Shows the signals whose names hold what is typed.",
    "Signals": "Drag a signal to a strip; a double click gives it a strip of its own.",
    "New strip": "An empty strip below the others.",
    "Copy picture": "The strips as a picture on the clipboard.",
    # Loops
    "Rule for the gains": "How gains are laid out from the plant.",
    "Crossover, Hz": "Where the opened loop is to gain 1.",
    "Phase margin at least, degrees": "What a proposal keeps at its crossover.",
    "Take these gains": "Writes the proposed gains into the drive, as one step of undo.",
    "Value that spreads": "A value that is not known exactly.",
    "Spread": "By how much it lies around its value, such as ±20 %.",
    "Add": "Another value that spreads.",
    "Judge over the spread": "Margins over all of what spreads, at its corners and between them.",
    "Measure the loops in runs": "Finds their responses by small sines in runs, for loops that no linear model fits.",
    # Series
    "Plans": "What varies, and the rows of it.",
    "Scripts": "Scripts of this drive.",
    "New series": "Another series of this drive, in which nothing varies yet.",
    "Duplicate": "A copy of the one that is chosen.",
    "Delete": "Takes the one that is chosen out of the drive; Ctrl+Z brings it back.",
    "What else varies": "Type a part of a name: a quantity, a setting, a value or choice of a card.",
    "How it is combined": "Which of the values meet: all with all, row by row, or sampled points.",
    "Number of runs": "How many points are sampled.",
    "Another figure": "Type a part of its name: what is reported of each run.",
    "Run the series": "Runs the rows that are not there yet; what is there stays.",
    "Goal": "Whether a figure is to be smallest, largest or a certain value.",
    "Figure of the goal": "Of those that the series reports.",
    "Trials of the search": "How many runs it may take.",
    # Firmware
    "Permitted error": "By how much a signal may differ from the controller as modelled.",
    "Build and check": "Compiles the C for this computer and the processors that are there; runs it beside the model.",
    "Save C …": "Writes the source, a README, an example and a test into a folder.",
    "C source": "The controller as it is written.",
    "Value": "A number of the drive, to see its word in the code.",
    "Word": "A word of the code, to see what it stands for.",
    "Number format of all blocks": "In which numbers blocks compute that have no format of their own.",
    # Bench
    "Kind of link": "How the board is reached.",
    "Connect": "Opens the link, or closes it.",
    "Enable": "Lets the power stage switch; it asks the board.",
    "Set idle": "Takes the power stage back to rest.",
    "Oscilloscope": "Signals of the board over time, with a trigger.",
    "Operator panel": "Fields, sliders and gauges of one's own.",
    "Add a channel": "Another signal of the board to look at.",
    "Every how many ticks": "How far samples are apart.",
    "Samples in the window": "How many are shown at once.",
    "Trigger mode": "Whether the picture waits for the trigger.",
    "Trigger source": "The signal that is watched.",
    "Trigger condition": "What the signal does at the picture's 0.",
    "Trigger level": "The value that it crosses.",
    "Set-up": "Channels and trigger, to keep or to load.",
    "Filter the log": "Shows the lines that hold what is typed.",
    "Clear": "Empties what is shown.",
    "Save …": "Writes what is shown to a file.",
    "Log": "What happened on the link, the latest last.",
    "Read back": "Asks the board for the values that it has.",
    "Write to the board": "Sends the values that differ.",
    "Save set …": "Writes the values to a file.",
    "Load set …": "Takes values from a file; they go to the board when they are written.",
}
"""By the accessible name of a field, else by the words of a button."""
PATTERNS = (
    (re.compile(r"Level of detail: (.*)"), "Runs the drive {0}: how much of converters and parts a run shows."),
    (re.compile(r"Leave (.*) out"), "Takes {0} out of the series."),
    (re.compile(r"How (.*) varies"), "A list, a range, a spread or two ends of {0}."),
    (re.compile(r"Number format of (.*)"), "In which numbers {0} computes."),
    (re.compile(r"[‹/] (.*)"), "Back out to {0}."),
)
HEADS = {
    "name in code": "What it is called in the C source.",
    "every": "Every how many ticks the block runs.",
    "format": "In which numbers it computes.",
    "signal": "What the block gives.",
    "holds": "Lowest and highest value that the word can hold.",
    "one step": "What the last digit of the word stands for.",
    "channel": "The signal as the board names it.",
    "unit": "In which its figures are.",
    "× scale": "By what the signal is multiplied before it is drawn.",
    "+ offset": "What is added to it before it is drawn.",
    "at 1": "Its value at cursor 1.",
    "at 2": "Its value at cursor 2.",
    "Value": "What is prescribed at that time.",
    "value": "A value that may be changed while the board runs.",
    "drive": "As it stands in the drive.",
    "board": "As the board has it.",
}


def words_of(widget: QWidget) -> str:
    """The sentence on a widget: its own, else that of its name; empty where there is none."""
    if widget.toolTip():
        return widget.toolTip()
    text = widget.text().replace("&", "") if isinstance(widget, QAbstractButton) else ""
    name = widget.accessibleName()
    for key in (name, text):
        if key in TIPS:
            return TIPS[key]
        for pattern, words in PATTERNS:
            if match := pattern.fullmatch(key):
                return words.format(*match.groups())
    return f"{name}." if name else ""


def words_of_head(header: QHeaderView, section: int) -> str:
    """The sentence on a column of a table."""
    model, across = header.model(), Qt.Orientation.Horizontal
    if model is None or section < 0:
        return ""
    own = model.headerData(section, across, Qt.ItemDataRole.ToolTipRole)
    text = str(model.headerData(section, across))
    name, _, unit = text.partition(", ")
    return str(own or HEADS.get(text) or (f"{name}, in {unit}." if unit else ""))


def show_words(event: QHelpEvent) -> bool:
    """Tell what is under the pointer; whether there was anything to tell."""
    widget = QApplication.widgetAt(event.globalPos())
    if widget is None:
        return False
    header = widget.parent()
    if isinstance(header, QHeaderView):
        words = words_of_head(header, header.logicalIndexAt(widget.mapFromGlobal(event.globalPos())))
    else:
        words = words_of(widget)
    if words:
        QToolTip.showText(event.globalPos() + QPoint(0, 2), words, widget)
    return bool(words)
