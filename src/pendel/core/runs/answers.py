"""What a process that may run C of a user can answer: records of known types alone."""

from __future__ import annotations

import pickle
from typing import Any

KNOWN = {
    ("pendel.core.runs.worker", "RunFinished"),
    ("pendel.core.runs.worker", "RunFailed"),
    ("pendel.core.runs.worker", "Answered"),
    ("pendel.core.firmware.ship", "Checked"),
    ("pendel.core.firmware.ship", "Compared"),
    ("pendel.core.firmware.processors", "OnProcessor"),
    ("pendel.core.firmware.propose", "ProposedFormats"),
    ("pendel.core.firmware.propose", "Narrowed"),
    ("pendel.core.loops.judgement", "Judgement"),
    ("pendel.core.loops.judgement", "LoopRecord"),
    ("pendel.core.loops.judgement", "ProposedGains"),
    ("pendel.core.loops.points", "WorkingPoint"),
    ("pendel.core.loops.linear_models", "LinearModel"),
    ("pendel.core.loops.linear", "LinearPlant"),
    ("pendel.core.loops.linear_models", "LiftedModel"),
    ("pendel.core.loops.measured", "Measured"),
    ("pendel.core.loops.measured", "MeasuredPlant"),
    ("pendel.core.loops.turning", "MovingPlant"),
    ("pendel.core.loops.turning", "Rotation"),
    ("pendel.core.loops.calming", "By"),
    ("pendel.core.loops.calming", "Calming"),
    ("pendel.core.loops.looked_at", "LookedAt"),
    ("pendel.core.loops.modes", "Body"),
    ("pendel.core.loops.modes", "Chain"),
    ("pendel.core.loops.modes", "Mechanics"),
    ("pendel.core.loops.modes", "Mode"),
    ("pendel.core.loops.modes", "Spring"),
    ("pendel.core.loops.margins", "Margins"),
    ("pendel.core.loops.realisation", "LeftOut"),
    ("pendel.core.loops.realisation", "Minimal"),
    ("pendel.core.loops.realisation", "Pole"),
    ("pendel.core.loops.sweep", "Swept"),
    ("pendel.core.loops.sweep", "SweptPoint"),
    ("pendel.core.loops.tolerances", "Sample"),
    ("pendel.core.loops.tolerances", "Tolerated"),
    ("pendel.core.loops.transfer", "Ends"),
    ("pendel.core.loops.transfer", "Transfer"),
    ("builtins", "complex"),
    ("pendel.core.loops.tuning", "LoopAnalysis"),
    ("pendel.core.controllers.symbolic", "LinearBlock"),
    ("pendel.core.runs.measures", "StepMeasures"),
    ("pathlib", "PosixPath"),
    ("numpy", "ndarray"),
    ("numpy", "dtype"),
    ("numpy._core.multiarray", "_reconstruct"),
    ("numpy._core.multiarray", "scalar"),
    ("numpy._core.numeric", "_frombuffer"),
    ("numpy.core.multiarray", "_reconstruct"),
    ("numpy.core.multiarray", "scalar"),
    ("numpy.core.numeric", "_frombuffer"),
}
"""What an answer may be made of. C that runs in the worker could send anything in its place."""
LARGEST = 2 << 30


class Answers(pickle.Unpickler):
    def find_class(self, module: str, name: str) -> Any:
        if (module, name) not in KNOWN:
            raise pickle.UnpicklingError(f"{module}.{name} is no part of an answer")
        return super().find_class(module, name)
