"""From a drive to a run."""
