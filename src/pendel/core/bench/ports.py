"""Ports of this computer at which a board may be."""

from __future__ import annotations

import contextlib


def ports_for(kind: str) -> list[str]:
    """Addresses to offer for a kind of link, such as ``serial://``, without the kind."""
    if kind == "serial://":
        from serial.tools import list_ports  # slow to load, and not needed for other links

        with contextlib.suppress(OSError):
            return [f"{port.device}?speed=1000000" for port in sorted(list_ports.comports())]
    if kind == "can://":
        import can  # slow to load, and not needed for other links

        ports: list[str] = []
        with contextlib.suppress(Exception):  # drivers raise errors of their own
            for config in can.detect_available_configs(["socketcan"]):
                ports.append(f"{config['interface']}:{config['channel']}?to=0x600&from=0x601&bitrate=500000&fd=0")
        return ports
    return []
