"""Many runs of one drive: what varies, and what is told of each run.

`points` turns a plan (`pendel.core.drive.plans`) into rows of texts. `following` knows which numbers of a run follow
from them, so that a row costs arithmetic and the time loop. `columns` reads what is told of a row, and `rows` runs some
of them. `store` keeps rows in SQLite, and `running` goes on with a series until all are there. `figures` looks at all
rows: shares within limits, what matters most.
"""
