"""A program of one's own: the drive of a window, or of `pendel serve`, as if it were opened here."""

import os

import pendel

d = pendel.connect(os.environ.get("PENDEL_ADDRESS"), os.environ.get("PENDEL_TOKEN", ""))
d.set("K_p", "30 A*s/m")
run = d.run("50 ms")
print(run["door_motor.current"].y.max())
