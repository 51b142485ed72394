"""Heat over a duty of minutes or hours, from a drive that runs for milliseconds.

`cut` parts a drive at its heat ports, `network` has the slow side as matrices, `losses` the heat of an operating point
by short runs, `over` steps through the duty, `life` counts the swings of a junction. See docs/heat.md.
"""
