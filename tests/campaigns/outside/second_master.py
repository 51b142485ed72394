"""Another master of the protocol, pyxcp, on our slave: it says what it found as one line of JSON. It runs in an
environment of its own, and has one configuration a process.

Arguments: kind of link (tcp, udp, serial), host or port, port number, and offsets of a value to write and of two
numbers to sample."""

import glob
import json
import logging
import sys
import time

from pyxcp.config import create_application_from_config, set_application
from pyxcp.daq_stim import DaqList, DaqToCsv
from pyxcp.master import Master


def transport(kind, place, number):
    if kind == "serial":
        sxi = {"port": place, "bitrate": number, "header_format": "HEADER_LEN_CTR_WORD", "tail_format": "CHECKSUM_BYTE"}
        return "sxi", {"SxI": sxi}
    return "eth", {"Eth": {"host": place, "port": number, "protocol": kind.upper(), "tcp_nodelay": True}}


class Counted(DaqToCsv):
    """Samples to a file, counted, so that a slow machine is waited for."""

    count = 0

    def on_daq_list(self, daq_list, timestamp0, timestamp1, payload):
        super().on_daq_list(daq_list, timestamp0, timestamp1, payload)
        self.count += 1


def main():
    kind, place, number, value_at, first_at, second_at = sys.argv[1], sys.argv[2], *map(int, sys.argv[3:7])
    layer, settings = transport(kind, place, number)
    settings |= {"timeout": 2.0, "create_daq_timestamps": False}
    application = create_application_from_config({"Transport": settings}, log_level=logging.ERROR)
    set_application(application)
    lists = [
        DaqList(
            name="board",
            event_num=0,
            stim=False,
            enable_timestamps=True,
            measurements=[("first", first_at, 0, "F32"), ("second", second_at, 0, "F32"), ("ticks", 12, 1, "U32")],
            priority=0,
            prescaler=10 if kind != "serial" else 50,
        )
    ]
    policy = Counted(lists)
    with Master(layer, config=application, policy=policy) as master:
        master.connect()
        properties = master.slaveProperties
        found = {
            "max_cto": properties.maxCto,
            "max_dto": properties.maxDto,
            "supports": [bool(properties[n]) for n in ("supportsDaq", "supportsCalpag", "supportsPgm")],
            "identity": master.identifier(0x00),
            "info": {k: v for k, v in master.getDaqInfo()["processor"]["properties"].items() if not k.startswith("_")},
            "resolution": master.getDaqInfo()["resolution"]["timestampTicks"],
            "unit": str(master.getDaqInfo()["resolution"]["timestampMode"]["unit"]),
        }
        master.setMta(value_at, 0)
        before = bytes(master.upload(4))
        import struct

        master.setMta(value_at, 0)
        master.download(struct.pack("<f", 41.5))
        found["before"], found["after"] = (
            struct.unpack("<f", before)[0],
            struct.unpack("<f", bytes(master.shortUpload(4, value_at, 0)))[0],
        )
        master.setMta(0, 0)
        found["checksum"] = int(master.buildChecksum(32).checksum)
        found["memory"] = bytes(master.shortUpload(32, 0, 0)).hex()
        policy.setup()
        policy.start()
        end = time.monotonic() + 60
        while policy.count <= 12_000 / lists[0].prescaler and time.monotonic() < end:
            time.sleep(0.05)
        policy.stop()
        time.sleep(0.3)
        master.disconnect()
    rows = []
    for path in glob.glob("*.csv"):
        with open(path) as file:
            rows += [line.strip().split(",") for line in file][1:]
    found["rows"] = rows
    print("FOUND " + json.dumps(found, default=str))


if __name__ == "__main__":
    main()
