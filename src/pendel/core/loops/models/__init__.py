"""Linear models of a drive at a point, ways between two signals, margins, sweeps."""
