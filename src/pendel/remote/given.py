"""A folder of the user's that scripts may use besides their own: which ones may be given away."""

from __future__ import annotations

import os
from pathlib import Path

from platformdirs import user_cache_dir, user_config_dir, user_data_dir, user_state_dir

from pendel.core.errors import DriveProblem, shorten


def given_folder(text: str) -> Path | None:
    """The folder that a text names; none where it is empty.

    Raises
    ------
    DriveProblem
        where it is none, another user's, or holds or lies in what Pendel keeps for itself, such as the list of what
        was allowed: a script could then allow others.
    """
    if not text.strip():
        return None
    path = Path(text.strip()).expanduser()
    shown = shorten(str(path), 80)
    if not path.is_absolute() or not path.is_dir():
        raise DriveProblem(f"Scripts cannot be given “{shown}”: there is no such folder. Make it first.")
    path = path.resolve()
    if path.stat().st_uid != os.getuid():
        raise DriveProblem(f"Scripts cannot be given “{shown}”: it is another user's. Take one of yours.")
    own = [
        Path(place("pendel")).resolve() for place in (user_cache_dir, user_config_dir, user_data_dir, user_state_dir)
    ]
    for kept in [Path.home().resolve(), *own]:
        if path == kept or path in kept.parents or kept in path.parents and kept != Path.home().resolve():
            raise DriveProblem(f"Scripts cannot be given “{shown}”: files of Pendel lie there. Take a smaller one.")
    if any(part.startswith(".") for part in path.parts):
        raise DriveProblem(
            f"Scripts cannot be given “{shown}”: hidden folders hold settings of programs. Take another."
        )
    return path
