"""Linear models as files: MAT and JSON with the matrices and names, CSV with the response, a Python text that
builds the model with SciPy and python-control."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pendel.core.errors import FileProblem
from pendel.core.files.writing import write_atomically
from pendel.core.loops.models.realisation import minimal, zeros_of
from pendel.core.loops.models.transfer import Transfer

ENDINGS = {".mat": "MAT", ".json": "JSON", ".csv": "CSV of the response", ".py": "Python"}


def save_model(transfer: Transfer, path: Path) -> None:
    """Write a model by the ending of the file. Raises `FileProblem`."""
    writers: dict[str, Callable[[Transfer], str | bytes]] = {
        ".mat": as_mat,
        ".json": as_json,
        ".csv": as_csv,
        ".py": as_python,
    }
    if path.suffix not in writers:
        raise FileProblem(str(path), f"the ending must be one of {', '.join(ENDINGS)}.")
    write_atomically(path, writers[path.suffix](transfer))


def as_mat(transfer: Transfer) -> bytes:
    import scipy.io

    model, frequency = transfer.model, transfer.frequencies()
    out = io.BytesIO()
    content = {
        **{name: getattr(model, name) for name in "ABCD"},
        "dt": model.dt,
        "states": np.array(model.states, dtype=object),
        "input": model.input,
        "output": model.output,
        "frequency": frequency,
        "response": transfer.response(frequency),
    }
    scipy.io.savemat(out, content)
    return out.getvalue()


def record_of(transfer: Transfer) -> dict:
    """The model in plain figures; what is not finite is left as nothing."""
    model, minimum = transfer.model, minimal(transfer.model)
    return {
        "from": transfer.ends.source,
        "to": transfer.ends.target,
        "opened": list(transfer.ends.opened),
        "point": transfer.point.name,
        "dt": model.dt,
        "states": list(model.states),
        "units": dict(transfer.units),
        **{name: getattr(model, name).tolist() for name in "ABCD"},
        "poles": [
            {
                "re": p.value.real,
                "im": p.value.imag,
                "natural_Hz": p.natural if math.isfinite(p.natural) else None,
                "damping": p.damping,
                "states": dict(p.states),
            }
            for p in minimum.poles
        ],
        "zeros": [[z.real, z.imag] for z in zeros_of(minimum.model).tolist()],
        "order": len(minimum.model.states),
        "left_out": [{"reason": each.reason, "states": [n for n, _ in each.pole.states]} for each in minimum.left_out],
        "remarks": list(transfer.remarks),
    }


def as_json(transfer: Transfer) -> str:
    return json.dumps(record_of(transfer), ensure_ascii=False, indent=1) + "\n"


def as_csv(transfer: Transfer) -> str:
    out, frequency = io.StringIO(), transfer.frequencies()
    response = transfer.response(frequency)
    sheet = csv.writer(out, lineterminator="\n")
    sheet.writerow(["frequency Hz", "magnitude", "magnitude dB", "phase °"])
    phase = np.degrees(np.unwrap(np.angle(response)))
    for f, size, turn in zip(frequency.tolist(), np.abs(response).tolist(), phase.tolist()):
        sheet.writerow([f"{f:.9g}", f"{size:.9g}", f"{20 * math.log10(max(size, 1e-300)):.9g}", f"{turn:.9g}"])
    return out.getvalue()


def as_python(transfer: Transfer) -> str:
    """A text that runs by itself. Names of the drive stand in it as Python strings, which `repr` makes
    safe."""
    model = transfer.model
    rows = "\n".join(f"{name} = np.array({getattr(model, name).tolist()!r})" for name in "ABCD")
    return f'''"""A linear model of a drive."""

import numpy as np
from scipy.signal import StateSpace

source = {model.input!r}
target = {model.output!r}
states = {list(model.states)!r}
dt = {model.dt!r}  # s; 0 for continuous time
{rows}

model = StateSpace(A, B, C, D, dt=dt) if dt else StateSpace(A, B, C, D)
try:
    import control

    model_for_control = control.ss(A, B, C, D, dt)
except ImportError:  # SciPy's will do
    model_for_control = None

if __name__ == "__main__":
    print(model)
'''


__all__ = ["ENDINGS", "record_of", "save_model"]
