"""The energy balance of a run."""


def energy_gap(run):
    """(Supplied − lost − change of stored) over the larger of the first two, from integral states."""
    run.kept.fetch([k for k in run.keys() if k.startswith("energy.")])  # at once, which is faster
    supplied, lost, delivered = (
        sum(run[k].y[-1] for k in run.keys() if k.startswith(f"energy.{kind}:"))
        for kind in ("supplied", "lost", "delivered")
    )
    lost += delivered
    stored = run["energy.stored"].y
    return abs(supplied - lost - (stored[-1] - stored[0])) / max(abs(supplied), abs(lost))
