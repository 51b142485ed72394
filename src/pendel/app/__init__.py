"""The window."""

import os

# Before NumPy is loaded: matrices are small here, and threads of the linear algebra that wait for each other on
# busy cores would hold the window up for tenths of seconds.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
