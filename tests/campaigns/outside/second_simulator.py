"""Runs units with FMPy, in the environment of the other programs: ``second_simulator.py ORDERS.json RESULT.npz``."""

import json
import sys

import fmpy
import numpy as np
from fmpy.fmi3 import FMU3Slave
from fmpy.validation import validate_fmu


class Unit:
    def __init__(self, path, number=0, tolerance=None):
        problems = validate_fmu(path)
        assert problems == [], problems
        self.description = fmpy.read_model_description(path, validate=True)
        self.references = {v.name: v.valueReference for v in self.description.modelVariables}
        self.results = [v.name for v in self.description.modelVariables if v.causality in ("output", "local")]
        self.folder = fmpy.extract(path)
        self.slave = FMU3Slave(
            guid=self.description.guid,
            unzipDirectory=self.folder,
            modelIdentifier=self.description.coSimulation.modelIdentifier,
            instanceName=f"unit {number}",
        )
        self.begin()

    def begin(self):
        self.said = []
        self.slave.instantiate(loggingOn=True, logMessage=self.hear())
        self.slave.enterInitializationMode(startTime=0.0)
        self.slave.exitInitializationMode()

    def hear(self):
        from fmpy.fmi3 import fmi3LogMessageCallback

        self.kept = fmi3LogMessageCallback(lambda _env, _status, _category, text: self.said.append(text.decode()))
        return self.kept

    def set(self, name, value):
        self.slave.setFloat64([self.references[name]], [value])

    def get(self, names):
        return list(self.slave.getFloat64([self.references[n] for n in names]))

    def step(self, n, size):
        self.slave.doStep(currentCommunicationPoint=n * size, communicationStepSize=size)


def alone(order):
    """All results of a unit at each step; values are set at steps; its second half is done twice more: from a state,
    and in another instance from the bytes of that state."""
    unit, size, steps = Unit(order["file"]), order["step"], order["steps"]
    rows, state, blob = [], None, b""
    for n in range(steps):
        for name, value in order["sets"].get(str(n), {}).items():
            unit.set(name, value)
        if n == steps // 2:
            state = unit.slave.getFMUState()
            blob = unit.slave.serializeFMUState(state)
        unit.step(n, size)
        rows.append(unit.get(unit.results))
    again, twin = [], Unit(order["file"], 1)
    twin.slave.setFMUState(twin.slave.deserializeFMUState(blob))
    unit.slave.setFMUState(state)
    for which in (unit, twin):
        for n in range(steps // 2, steps):
            for name, value in order["sets"].get(str(n), {}).items() if n > steps // 2 else ():
                which.set(name, value)
            which.step(n, size)
            again.append(which.get(which.results))
    refused = []
    for name, value in order["refused"].items():
        try:
            unit.set(name, value)
        except Exception:  # noqa: BLE001  whatever FMPy raises where a status is no success
            refused.append(unit.said[-1])
    return unit.results, np.array(rows), np.array(again), refused


def coupled(order):
    """A plant and a controller side by side, each with what the other gave at the beginning of the step."""
    plant, controller = Unit(order["plant"]), Unit(order["controller"], 1)
    from_plant = [v.name for v in controller.description.modelVariables if v.causality == "input"]
    to_plant = [v.name for v in plant.description.modelVariables if v.causality == "input"]
    rows = []
    for n in range(order["steps"]):
        seen, asked = plant.get(from_plant), controller.get(to_plant)
        for name, value in zip(from_plant, seen):
            controller.set(name, value)
        for name, value in zip(to_plant, asked):
            plant.set(name, value)
        controller.step(n, order["step"])
        plant.step(n, order["step"])
        rows.append([*plant.get(plant.results), *controller.get(controller.results)])
    return [*plant.results, *controller.results], np.array(rows), np.zeros((0, 0)), []


if __name__ == "__main__":
    with open(sys.argv[1], encoding="utf-8") as file:
        order = json.load(file)
    names, rows, again, refused = (coupled if "plant" in order else alone)(order)
    np.savez(sys.argv[2], names=np.array(names), rows=rows, again=again, refused=np.array(refused, dtype=str))
