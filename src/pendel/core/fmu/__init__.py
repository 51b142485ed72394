"""A drive, its plant or its controller as a unit for other simulators: FMI 3.0, co-simulation.

The unit brings the very C that a run of Pendel uses, with the time loop and every number in it, so that it needs
nothing of Pendel where it runs. It goes from tick to tick of the controller."""
