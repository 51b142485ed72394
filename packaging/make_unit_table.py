"""Write what each unit symbol is in SI, by Pint: ``python packaging/make_unit_table.py``. Reading the table takes a
moment, building Pint's registry takes much of a start."""

from __future__ import annotations

import json
from pathlib import Path

import pint

STEMS = [
    "V",
    "A",
    "W",
    "Hz",
    "N",
    "m",
    "s",
    "g",
    "J",
    "H",
    "F",
    "ohm",
    "Ω",
    "Pa",
    "K",
    "T",
    "Wb",
    "C",
    "rad",
    "bar",
    "VA",
]
PREFIXES = ("", "p", "n", "u", "µ", "m", "k", "M", "G")
WHOLE = [
    "rpm",
    "min",
    "h",
    "deg",
    "°",
    "rev",
    "degC",
    "°C",
    "%",
    "Ah",
    "mAh",
    "Wh",
    "kWh",
    "cm",
    "mm2",
    "cm2",
    "mm²",
    "l",
    "t",
]
LEFT_OUT = {"pg", "mbar", "prad", "p", "MK"}
"""Nobody writes them, or they mean something else."""
TO_PINT = {
    "Ω": "ohm",
    "°C": "delta_degC",
    "degC": "delta_degC",
    "°": "degree",
    "%": "percent",
    "rev": "turn",
    "Ah": "ampere_hour",
    "VA": "volt_ampere",
    "mm²": "mm**2",
    "mm2": "mm**2",
    "cm2": "cm**2",
    "t": "tonne",
    "l": "litre",
    "h": "hour",
    "min": "minute",
    "rpm": "revolutions_per_minute",
    "mAh": "milliampere_hour",
}
BASE = ("[length]", "[mass]", "[time]", "[current]", "[temperature]")
FILE = Path(__file__).parent.parent / "src" / "pendel" / "core" / "quantities" / "units.json"


def spelled(prefix: str, stem: str) -> str:
    """A symbol as Pint writes it."""
    if stem == "VA":
        return {
            "": "",
            "k": "kilo",
            "M": "mega",
            "m": "milli",
            "G": "giga",
            "n": "nano",
            "p": "pico",
            "u": "micro",
            "µ": "micro",
        }[prefix] + "volt_ampere"
    return {"µ": "u"}.get(prefix, prefix) + TO_PINT.get(stem, stem)


def table() -> dict[str, list[float]]:
    """Factor to SI and exponents of length, mass, time, current and temperature, by symbol."""
    registry = pint.UnitRegistry(autoconvert_offset_to_baseunit=True)
    symbols = {p + s: spelled(p, s) for s in STEMS for p in PREFIXES if p + s not in LEFT_OUT}
    symbols |= {s: TO_PINT.get(s, s) for s in STEMS}
    symbols |= {name: TO_PINT.get(name, name) for name in WHOLE}
    found = {}
    for name in sorted(symbols):
        base = registry.Quantity(1.0, symbols[name]).to_base_units()
        dims = base.dimensionality
        found[name] = [float(str(base.magnitude)), *(float(str(dims.get(d, 0))) for d in BASE)]
    return found


if __name__ == "__main__":
    lines = ",\n".join(f"  {json.dumps(name, ensure_ascii=False)}: {json.dumps(row)}" for name, row in table().items())
    FILE.write_text(f"{{\n{lines}\n}}\n", "utf-8")
