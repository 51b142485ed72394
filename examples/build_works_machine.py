"""Builds the drive of the works car of the made-up Ostrelle funicular, on its test bench: ``python
examples/build_works_machine.py``. `build_works_car` takes its envelope."""

from pathlib import Path

import pendel
from pendel.core.drive import file

TARGET = Path(__file__).parent.parent / "src" / "pendel" / "examples" / "works_machine.pendel"
SHEET = {
    "pairs": "4",
    "R_ll": "6 mohm",
    "L_ll": "0.06 mH",
    "K_E": "18 V",
    "M_n": "70 N*m",
    "I_n": "300 A",
    "J_m": "0.03 kg*m^2",
    "U_link": "100 V",
    "f_p": "10 kHz",
    "n_set": "1200 rpm",
    "M_load": "60 N*m",
}
DEVICES = {
    "R_on": "0.8 mohm",
    "R_d": "0.8 mohm",
    "E_on": "0.9 mJ",
    "E_off": "1.2 mJ",
    "U_ref": "100 V",
    "I_ref": "300 A",
}


def works_machine() -> pendel.Drive:
    d = pendel.new("synchronous", options={"regulate": "torque"}, **SHEET)
    d.set("title", "Ostrelle funicular · drive of the works car")
    for name, text in DEVICES.items():
        d.set(f"inverter.{name}", text)
    return d


if __name__ == "__main__":
    made = works_machine()
    assert not made.check(), made.check()
    file.save(made.document, TARGET)
    print(TARGET)
