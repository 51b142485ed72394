"""What a script makes of a drive's controller: C, formats, reports, and units for other simulators."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core import verbs
from pendel.core.drive import commands
from pendel.interface.drive_edits import EditedDrive, changes_drive

if TYPE_CHECKING:
    from pendel.core.firmware.propose import ProposedFormats
    from pendel.core.verbs.shipping import FirmwareReport


class ShippedDrive(EditedDrive):
    """A drive whose controller can be shipped: the part of `pendel.Drive` that the page Firmware shows."""

    def write_c(
        self, folder: str | Path, *, number_format: str | None = None, blocks: Mapping[str, str] | None = None
    ) -> list[Path]:
        """Write the controller as C: source, header, example and library.

        Parameters
        ----------
        number_format
            of all blocks: ``"float64"``, ``"float32"``, ``"fixed32"`` or ``"fixed16"``; the drive's without it.
        blocks
            number formats of single blocks by their keys.

        Raises
        ------
        DriveHasFindings, DriveProblem, FileProblem

        >>> import tempfile
        >>> sorted(path.suffix for path in d.write_c(tempfile.mkdtemp()))
        ['.a2l', '.c', '.c', '.c', '.c', '.h', '.h', '.html', '.md']
        """
        mix = [f"{block}={number}" for block, number in (blocks or {}).items()]
        twin = self.document.copy()
        return list(verbs.write_c(twin, folder=folder, number_format=number_format, blocks=mix))

    def export_unit(
        self,
        path: str | Path,
        *,
        what: str = "drive",
        inputs: Sequence[str] = (),
        step: float | None = None,
    ) -> Path:
        """Write the drive, its plant or its controller as a unit for other simulators (FMI 3.0, co-simulation).

        Parameters
        ----------
        what
            ``"drive"``, ``"plant"`` or ``"controller"``.
        inputs
            profiles, and values as ``card.value``, that come from outside.
        step
            s; from tick to tick where no controller of the drive says so.

        Raises
        ------
        DriveHasFindings, DriveProblem, BuildProblem, FileProblem

        >>> import tempfile
        >>> d.export_unit(tempfile.mkdtemp() + "/plant.fmu", what="plant").name
        'plant.fmu'
        """
        text = None if step is None else f"{step!r} s"
        verbs.export_unit(self.document.copy(), what=what, inputs=inputs, step=text).save(Path(path))
        return Path(path)

    @changes_drive
    def set_live(self, *wished: str, off: bool = False) -> None:
        """Have values of blocks changeable while the code runs, or with ``off`` constants again.

        Parameters
        ----------
        wished
            a block's key for all its values that are not 0, ``"current_pi.K_p"``, or with ends
            ``"current_pi.K_p=0.5…8"``; without them a value goes from a quarter to four times of what it is.

        Raises
        ------
        DriveHasFindings, DriveProblem

        >>> d.set_live("speed_pi.K_p=10…80")
        >>> d.document.cards["speed_pi"].live
        {'K_p': ('10', '80')}
        """
        for command in verbs.live_commands(self.document, wished, off=off):
            self.do(command)

    @changes_drive
    def find_ranges(self) -> None:
        """Run the drive and keep what the signals of its controller came to, for fixed point. Raises
        `DriveHasFindings` and `DriveProblem`.

        >>> d.set("until", "0.2 s")
        >>> d.find_ranges()
        """
        self.do(commands.set_seen(self.document, verbs.ranges_of(self.document)))

    @changes_drive
    def propose_formats(self, error: float = 2e-3) -> ProposedFormats:
        """Take the narrowest number formats with which no signal of the controller is further off than this
        fraction of its span (rms, in closed loop). Ranges are to be found before.

        Raises
        ------
        DriveHasFindings

        >>> d.set("until", "0.2 s")
        >>> d.find_ranges()
        >>> d.propose_formats(0.01).error < 0.01
        True
        """
        from pendel.core.firmware.propose import propose_formats

        proposal = propose_formats(self.document, error)
        self.do(commands.set_number_formats(self.document, proposal.formats, "Propose formats"))
        return proposal

    def firmware(self, *, check: bool = False, processor: Sequence[str] = ()) -> FirmwareReport:
        """Report the controller as shipped: formats, ranges, findings; built and compared to the bit with
        ``check``, and on emulated processors (``"m4f"``, ``"m3"``, ``"m0"``).

        Raises
        ------
        DriveHasFindings, DriveProblem, BuildProblem

        >>> d.firmware().blocks[0].name
        'travel_speed'
        """
        return verbs.firmware(self.document.copy(), check=check, processor=processor)
