"""The description of a controller for measurement and calibration: ASAM MCD-2 MC (A2L) 1.71.

Addresses are offsets into the controller's struct, to which the slave adds where that is, so that one file fits every
board; see ``pd_board.h`` for their extensions."""

from __future__ import annotations

from pendel.core.bench.description import Channel, Description
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.source import LICENCE
from pendel.core.firmware.places import CodePlace, PlaceRole, code_places

TYPES = {
    "i2": "SWORD",
    "i4": "SLONG",
    "i8": "A_INT64",
    "u4": "ULONG",
    "f4": "FLOAT32_IEEE",
    "f8": "FLOAT64_IEEE",
}
LIMITS = {"f4": 3.4e38, "f8": 1.7e308}


def quoted(text: str) -> str:
    """The one way by which text of a drive comes into the file: as a string that ends where it is to end."""
    plain = "".join(c if c.isprintable() else " " for c in text)
    return '"' + plain.replace("\\", "/").replace('"', "'")[:255] + '"'


def a2l_of(lowered: Lowered, description: Description) -> str:
    """The file's text."""
    name = lowered.name
    parts, methods = list[str](), dict[str, str]()
    for place in code_places(lowered):
        key = place.key if place.role.value in ("signal", "value") else f"{place.role.value}:{place.key}"
        channel = description.channels[key]
        method = f"{name}.{place.member}.conversion"
        methods[method] = conversion(method, channel, place.rep)
        if place.role is PlaceRole.VALUE:
            live = description.values[key]
            parts.append(value_text(name, place, channel, method, live.low / channel.scale, live.high / channel.scale))
        else:
            parts.append(measurement(f"{name}.{place.member}", channel, method, place.rep, f"{name}.{place.member}"))
    for channel in description.channels.values():
        if channel.raw:
            parts.append(measurement(f"board.{channel.key.partition(':')[2]}", channel, "NO_COMPU_METHOD", None, ""))
    layouts = "".join(
        f"    /begin RECORD_LAYOUT {kind} FNC_VALUES 1 {kind} COLUMN_DIR DIRECT /end RECORD_LAYOUT\n"
        for kind in ("FLOAT32_IEEE", "FLOAT64_IEEE")
    )
    period = f"sampling period {description.tick * 1e6:g} us, checksum {description.checksum:08x}"
    return (
        f"/* {name}.a2l: where the numbers of the controller are. {LICENCE} */\n"
        "ASAP2_VERSION 1 71\n"
        f"/begin PROJECT {name} {quoted(lowered.deck.name)}\n"
        f"  /begin MODULE {name} {quoted(period)}\n"
        f'    /begin MOD_PAR "" EPK {quoted(f"{description.checksum:08x}")} /end MOD_PAR\n'
        '    /begin MOD_COMMON "" BYTE_ORDER MSB_LAST ALIGNMENT_BYTE 1 ALIGNMENT_WORD 2 ALIGNMENT_LONG 4 '
        "ALIGNMENT_FLOAT32_IEEE 4 ALIGNMENT_FLOAT64_IEEE 8 ALIGNMENT_INT64 8 /end MOD_COMMON\n"
        + "".join(methods.values())
        + layouts
        + "".join(parts)
        + "  /end MODULE\n/end PROJECT\n"
    )


def type_of(channel: Channel) -> str:
    return TYPES[channel.dtype.str[1:]]


def conversion(name: str, channel: Channel, rep: Rep) -> str:
    unit, step = quoted(channel.unit), (1.0 if rep.floating else rep.step) / channel.scale
    if step == 1.0:
        return f'    /begin COMPU_METHOD {name} "" IDENTICAL "%12.6" {unit} /end COMPU_METHOD\n'
    return f'    /begin COMPU_METHOD {name} "" LINEAR "%12.6" {unit} COEFFS_LINEAR {step!r} 0 /end COMPU_METHOD\n'


def ends(channel: Channel, rep: Rep | None) -> tuple[float, float]:
    """In the channel's unit."""
    if rep is None:
        return 0.0, 4294967295.0
    if rep.floating:
        maximum = LIMITS[channel.dtype.str[1:]]
        return -maximum, maximum
    return rep.low * rep.step / channel.scale, rep.high * rep.step / channel.scale


def measurement(name: str, channel: Channel, method: str, rep: Rep | None, symbol: str) -> str:
    low, high = ends(channel, rep)
    link = f' SYMBOL_LINK "{symbol}" 0' if symbol else ""
    return (
        f"    /begin MEASUREMENT {name} {quoted(channel.title)} {type_of(channel)} {method} 0 0 {low!r} "
        f"{high!r} "
        f"ECU_ADDRESS {channel.spot.address:#x} ECU_ADDRESS_EXTENSION {channel.spot.extension}{link} "
        "/end MEASUREMENT\n"
    )


def value_text(name: str, place: CodePlace, channel: Channel, method: str, low: float, high: float) -> str:
    return (
        f"    /begin CHARACTERISTIC {name}.{place.member} {quoted(channel.title)} VALUE "
        f"{channel.spot.address:#x} "
        f'{type_of(channel)} 0 {method} {low!r} {high!r} SYMBOL_LINK "{name}.{place.member}" 0 '
        "/end CHARACTERISTIC\n"
    )
