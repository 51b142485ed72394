"""MAT and HDF5 files from elsewhere, read in a process of its own: the libraries that read them were not made
for damaged or hostile ones, and a crash of theirs must not be one of the window.

The process gets the file's bytes and gives back arrays of numbers by name, in NumPy's own format without
pickles. It is confined as far as the system can.
"""

from __future__ import annotations

import io
import subprocess
import sys
from pathlib import Path

import numpy as np

from pendel.core.plant.compiler import plain_environment

PATIENCE = 60.0
"""Seconds."""
LARGEST = 1 << 30
"""Bytes of a file."""


def arrays_of(path: Path, kind: str, maximum: int) -> dict[str, np.ndarray]:
    """Arrays of at most so many numbers, by name. Raises `OSError` and `ValueError`."""
    if path.stat().st_size > LARGEST:
        raise ValueError(f"it has more than {LARGEST >> 30} GB")
    command = [sys.executable, "-P", "-m", "pendel.core.formats.apart", kind, str(maximum)]
    with path.open("rb") as stream:
        try:
            done = subprocess.run(
                command,
                stdin=stream,
                capture_output=True,
                timeout=PATIENCE,
                env=plain_environment(),
                cwd="/",
                check=False,
            )
        except subprocess.TimeoutExpired as problem:
            raise ValueError(f"reading it took more than {PATIENCE:.0f} s") from problem
    if done.returncode != 0:
        errors = done.stderr.decode("utf-8", "replace").strip().splitlines()[-1:] if done.returncode > 0 else []
        raise ValueError(errors[0][:200] if errors else "it is damaged")
    with np.load(io.BytesIO(done.stdout), allow_pickle=False) as arrays:
        return {str(name): np.asarray(arrays[f"arr_{k}"], dtype=float) for k, name in enumerate(arrays["arr_0"], 1)}


def from_mat(data: bytes, maximum: int) -> dict[str, np.ndarray]:
    import scipy.io

    arrays = scipy.io.loadmat(io.BytesIO(data))
    return {
        n: a
        for n, a in arrays.items()
        if not n.startswith("__") and isinstance(a, np.ndarray) and is_numbers(a.dtype, a.size, maximum)
    }


def from_hdf(data: bytes, maximum: int) -> dict[str, np.ndarray]:
    import h5py

    from pendel.core.files.hdf import held_within

    arrays: dict[str, np.ndarray] = {}

    def take(name: str, item: object) -> None:
        if isinstance(item, h5py.Dataset) and is_numbers(item.dtype, item.size, maximum):
            arrays[name] = held_within(file, name)[()]

    with h5py.File(io.BytesIO(data), "r") as file:
        file.visititems(take)
    return arrays


def is_numbers(kind: np.dtype, size: int, maximum: int) -> bool:
    return kind.kind in "fiu" and size <= maximum


def main() -> int:
    from pendel.core.runs.confined.confine import confine

    reader, maximum = {"mat": from_mat, "hdf": from_hdf}[sys.argv[1]], int(sys.argv[2])
    data = sys.stdin.buffer.read()
    confine([])
    try:
        arrays = reader(data, maximum)
        buffer = io.BytesIO()
        np.savez(buffer, np.array(list(arrays), dtype=str), *(a.astype(float) for a in arrays.values()))
    except Exception as problem:  # noqa: BLE001  the last line of what is told is the reason
        print(" ".join(str(problem).split()) or type(problem).__name__, file=sys.stderr)
        return 1
    sys.stdout.buffer.write(buffer.getvalue())
    return 0


if __name__ == "__main__":
    sys.exit(main())
