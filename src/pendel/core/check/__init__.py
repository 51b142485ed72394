"""Checking a drive: every text is evaluated, every wire followed; what is wrong becomes a finding."""

from pendel.core.check.examined import Examined, Rule, Subject
from pendel.core.check.rules import RULES, examine
from pendel.core.check.signal_units import signal_unit
from pendel.core.check.wires import end_exists, fits

__all__ = ["RULES", "Examined", "Rule", "Subject", "end_exists", "examine", "fits", "signal_unit"]
