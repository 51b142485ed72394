"""The six sectors of block commutation, which sensors, commutation and the window agree on.

Sector 1 begins where sensor a comes on, 30 electrical degrees after the EMF of phase a crosses zero upwards;
each lasts 60°. Common practice, no source.
"""

from __future__ import annotations

import math

TABLE = {
    1: (1, -1, 0),
    2: (1, 0, -1),
    3: (0, 1, -1),
    4: (-1, 1, 0),
    5: (-1, 0, 1),
    6: (0, -1, 1),
}
"""For each sector what phases a, b, c are driven to, for torque forward: 1 plus, −1 minus, 0 open."""
HALLS = {1: (1, 0, 1), 2: (1, 0, 0), 3: (1, 1, 0), 4: (0, 1, 0), 5: (0, 1, 1), 6: (0, 0, 1)}
"""Sensors a, b, c in each sector."""
FIRST_EDGE = math.pi / 6
"""Electrical angle (rad) at which sector 1 begins."""
